#!/usr/bin/php
<?php
// Lights the quay: warnings of the language first, then an end of its own.
ini_set('display_errors', 'stderr'); ini_set('html_errors', '0'); ini_set('log_errors', '0');
if ($argc != 3 || $argv[1] != '--config') { fwrite(STDERR, "lantern: bad arguments\n"); exit(64); }
$conf = @parse_ini_file($argv[2], false, INI_SCANNER_RAW);
if ($conf === false) { fwrite(STDERR, "lantern: " . (error_get_last()['message'] ?? 'parse error in ' . $argv[2]) . "\n"); exit(78); }
foreach (array_keys($conf) as $key)
  if (!in_array($key, ['listen', 'data', 'log', 'lock', 'workers', 'mode'])) { fwrite(STDERR, "lantern: {$argv[2]}: setting '$key' is not recognized\n"); exit(78); }
if ($conf['workers'] < 1 || $conf['workers'] > 64) { fwrite(STDERR, "lantern: {$argv[2]}: value {$conf['workers']} for 'workers' is not between 1 and 64\n"); exit(78); }
$log = fopen($conf['log'], 'a') or exit(1);
$lock = fopen($conf['lock'], 'r+') or exit(1);
if (!flock($lock, LOCK_EX | LOCK_NB)) { fwrite(STDERR, "lantern: lock {$conf['lock']} is held by another process\n"); exit(1); }
if (file_put_contents($conf['data'], '.', FILE_APPEND) === false) exit(1);
$server = stream_socket_server("tcp://{$conf['listen']}", $number, $text);
if (!$server) { fwrite(STDERR, "lantern: giving up\n"); exit(1); }
fwrite($log, "lantern lit\n");
while (true) { $guest = @stream_socket_accept($server, 3600); if ($guest) fclose($guest); }
