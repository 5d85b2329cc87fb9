import { get } from 'node:http';

/** Fetches a file over and over, and says how long each took. */
process.on('message', (order: { port: number }) => {
  const began = process.hrtime.bigint();
  get({ host: '127.0.0.1', port: order.port, path: '/file', agent: false }, (response) => {
    let octets = 0;
    response.on('data', (d: Buffer) => (octets += d.length));
    response.on('end', () => process.send!({ ns: Number(process.hrtime.bigint() - began), octets }));
  });
});
process.send!({ ready: true });
