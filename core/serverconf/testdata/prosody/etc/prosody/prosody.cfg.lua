-- the chat of the pilots
modules_enabled = { "tls"; "saslauth" }
--[[ more
than one line ]]
ssl = {
	key = "/etc/prosody/certs/chat.key";
	certificate = "/etc/prosody/certs/chat.crt";
	protocol = "tlsv1_1+";
	["ciphers"] = { "HIGH"; "!aNULL" };
}
c2s_ports = { 5222, 15222 }
legacy_ssl_ports = { 5223 }
local x = os.getenv("X")
certificates = "certs"
VirtualHost "chat.tarnholm.example"
VirtualHost "old.tarnholm.example"
	enabled = false
Component "rooms.tarnholm.example" "muc"
	ssl = { certificate = "/etc/prosody/certs/rooms.crt"; key = "/etc/prosody/certs/rooms.key" }
Include "conf.d/*.cfg.lua"
