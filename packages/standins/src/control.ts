import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Fleet } from './fleet.js';

/**
 * A small HTTP door to a running fleet, for people and tests in other processes: `GET /` tells what truly happened
 * to every device; `PUT` and `DELETE /DEVICE/FAULT` switch a fault on and off; `POST /DEVICE/power-loss`
 * cuts its power for a moment; `POST /DEVICE/power-on` switches one on that stayed dark; `POST /unpack` plugs in one that no family knows, `POST /spare` a spare.
 */
export async function openControl(fleet: Fleet, port = 0): Promise<{ url: string; server: Server }> {
  const server = createServer((request, response) => void serve(request, response));
  const serve = async (request: IncomingMessage, response: ServerResponse): Promise<void> => {
    const [device, what] = (request.url ?? '/').split('/').filter(Boolean);
    const answer = (status: number, body: unknown): void => {
      response.writeHead(status, { 'content-type': 'application/json' }).end(`${JSON.stringify(body, null, 2)}\n`);
    };
    try {
      if (request.method === 'GET' && !device)
        return answer(200, [
          ...fleet.devices.map((d) => ({
            name: d.options.name,
            address: d.options.address,
            state: d.state,
            runs: d.running.version,
            faults: [...d.faults],
            counters: d.counters,
          })),
          ...fleet.fixtures.map((f) => ({
            name: f.facts.name,
            address: f.facts.address,
            state: f.state,
            runs: f.facts.firmware,
            faults: [...f.faults],
            counters: f.counters,
          })),
        ]);
      if (device && what && (request.method === 'PUT' || request.method === 'DELETE')) {
        await fleet.fault(device, what, request.method === 'PUT');
        return answer(200, { device, fault: what, on: request.method === 'PUT' });
      }
      if (request.method === 'POST' && device && what === 'power-loss') {
        const machine = fleet.machine(device);
        machine.losePower();
        return answer(200, { device, powerLosses: machine.counters.powerLosses });
      }
      if (request.method === 'POST' && device && what === 'power-on') {
        const machine = fleet.machine(device);
        machine.powerOn();
        return answer(200, { device, state: machine.state });
      }
      if (request.method === 'POST' && (device === 'unpack' || device === 'spare')) {
        const { options } = await fleet[device]();
        return answer(200, { name: options.name, address: options.address });
      }
      return answer(404, { error: 'GET /, PUT or DELETE /DEVICE/FAULT, POST /DEVICE/power-loss or power-on, POST /unpack, POST /spare' });
    } catch (error) {
      return answer(400, { error: (error as Error).message });
    }
  };
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  return { url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`, server };
}
