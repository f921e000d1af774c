-- the chat of the light keepers
local host = "lightship"
modules_enabled = { "tls"; "saslauth" }
ssl = {
	certificate = "/etc/ssl/harbour/lightship.pem";
	key = "/etc/ssl/harbour/lightship.key";
	protocol = "tlsv1_2+";
	ciphers = "ECDHE+AESGCM";
	curveslist = { "X25519MLKEM768"; "X25519" };
}
VirtualHost "lightship.tarnholm.example"
