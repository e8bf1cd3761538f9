#!/usr/bin/node
// Watches the wake: asynchronous, with the traces of its language.
const fs = require('fs'), net = require('net');
if (process.argv[2] !== '--config') { console.error('wake: unexpected argument', process.argv[2]); process.exit(9); }
const conf = {};
for (const line of fs.readFileSync(process.argv[3], 'utf8').split('\n')) {
  if (!line.trim() || line.startsWith('#')) continue;
  const [key, value] = line.split('=').map(s => s.trim());
  if (!['listen', 'data', 'log', 'lock', 'workers', 'mode'].includes(key)) throw new Error(`Unknown configuration key "${key}" in ${process.argv[3]}`);
  conf[key] = value;
}
if (!(conf.workers > 0 && conf.workers <= 64)) throw new RangeError(`config.workers must be <= 64, got ${conf.workers}`);
fs.appendFileSync(conf.log, 'wake up\n');
fs.appendFileSync(conf.data, '.');
const at = conf.listen.lastIndexOf(':');
net.createServer().listen(Number(conf.listen.slice(at + 1)), conf.listen.slice(0, at), () => console.log('wake listening'));
