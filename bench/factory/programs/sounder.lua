#!/usr/bin/lua5.4
-- Sounds the depth; no port of its own, only files.
local path = arg[2]
if arg[1] ~= "--config" then io.stderr:write("sounder: what is " .. tostring(arg[1]) .. "?\n") os.exit(1) end
local conf, number = {}, 0
for line in io.lines(path) do
  number = number + 1
  if not line:match("^%s*#") and not line:match("^%s*$") then
    local key, value = line:match("^%s*(%w+)%s*=%s*(.-)%s*$")
    if not key then error(path .. ":" .. number .. ": expected key = value", 0) end
    if not ("listen data log lock workers mode"):find(key, 1, true) then
      io.stderr:write(string.format("sounder: %s line %d: don't know '%s'\n", path, number, key)) os.exit(1)
    end
    conf[key] = value
  end
end
if tonumber(conf.workers) > 64 then error("sounder: workers is too large in " .. path, 0) end
local log = assert(io.open(conf.log, "a"))
local data = assert(io.open(conf.data, "a"))
data:write(".") data:flush()
log:write("sounding\n") log:flush()
os.execute("exec sleep infinity")
