#!/usr/bin/ruby
# Lists the cargo; lets the language speak.
require 'socket'
abort "manifest: usage: manifest --config FILE" unless ARGV.length == 2 && ARGV[0] == '--config'
conf = {}
File.foreach(ARGV[1]).with_index(1) do |line, number|
  next if line =~ /^\s*(#|$)/
  key, value = line.split('=', 2).map(&:strip)
  raise ArgumentError, "#{ARGV[1]}:#{number}: invalid directive `#{key}'" unless %w[listen data log lock workers mode].include?(key) && value
  conf[key] = value
end
raise RangeError, "#{ARGV[1]}: workers=#{conf['workers']} exceeds 64" unless (1..64).cover?(Integer(conf['workers']))
log = File.open(conf['log'], 'a')
lock = File.open(conf['lock'], 'r+')
raise "manifest is already running (#{conf['lock']} is locked)" unless lock.flock(File::LOCK_EX | File::LOCK_NB)
File.open(conf['data'], 'a') { |f| f.write '.' }
host, port = conf['listen'].split(/:(?=\d+$)/)
server = TCPServer.new(host, Integer(port))
log.puts 'manifest open'
loop { server.accept.close }
