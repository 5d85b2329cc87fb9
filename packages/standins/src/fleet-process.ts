import { parseArgs } from 'node:util';
import { openControl } from './control.js';
import { Fleet } from './fleet.js';

/** The fleet as a process of its own: `node fleet-process.js --scale N [--state FILE] [--fault DEVICE=FAULT]... [--control-port N]`. */
const { values } = parseArgs({
  options: {
    scale: { type: 'string', default: '1' },
    state: { type: 'string' },
    fault: { type: 'string', multiple: true, default: [] },
    'control-port': { type: 'string', default: '0' },
  },
});
const fleet = new Fleet({ timeScale: Number(values.scale), stateFile: values.state });
try {
  for (const pair of values.fault) {
    const [device = '', fault = ''] = pair.split('=');
    await fleet.fault(device, fault);
  }
  await fleet.start();
  const { url } = await openControl(fleet, Number(values['control-port']));
  process.stdout.write(`${JSON.stringify({ devices: fleet.devices.length + fleet.fixtures.length, control: url })}\n`);
} catch (error) {
  process.stderr.write(`${(error as Error).message}\n`);
  process.exit(1);
}
const leave = (): void => void fleet.stop().then(() => process.exit(0));
process.on('SIGTERM', leave);
process.on('SIGINT', leave);
process.on('disconnect', leave);
