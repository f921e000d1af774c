package harbour

import (
	"time"

	"nurvik/core/forge"
	"nurvik/core/tlswire"
)

// dialogueBerths begin in plaintext.
func dialogueBerths() []berth {
	return []berth{
		{host: "post", about: "mail from elsewhere", addresses: []string{"127.30.10.1"}, scheme: "smtp"},
		{host: "pouch", about: "mail from pilots", addresses: []string{"127.30.10.2"}, scheme: "submission"},
		{host: "sorter", about: "mail between machines", addresses: []string{"127.30.10.3"}, scheme: "lmtp"},
		{host: "letters", about: "mail to be read", addresses: []string{"127.30.10.4"}, scheme: "imap"},
		{host: "bag", about: "mail to be fetched", addresses: []string{"127.30.10.5"}, scheme: "pop3"},
		{host: "sieve", about: "rules for mail", addresses: []string{"127.30.10.6"}, scheme: "sieve"},
		{host: "cargo", about: "files", addresses: []string{"127.30.10.7"}, scheme: "ftp"},
		{host: "gazette", about: "news", addresses: []string{"127.30.10.8"}, scheme: "nntp"},
		{host: "talk", about: "messages", addresses: []string{"127.30.10.9"}, scheme: "xmpp"},
		{host: "relay", about: "messages between servers, of another name", addresses: []string{"127.30.10.10"},
			scheme: "xmpp-server",
			leaf:   func(w *forge.Template, _ time.Time) { w.Names = []string{"talk." + domain} }},
		{host: "crew", about: "the directory", addresses: []string{"127.30.10.11"}, scheme: "ldap"},
		{host: "log", about: "a database", addresses: []string{"127.30.10.12"}, scheme: "postgres"},
		{host: "stores", about: "another database", addresses: []string{"127.30.10.13"}, scheme: "mysql"},
		{host: "mailbag", about: "mail under its own certificate, which a TLSA record names",
			addresses: []string{"127.30.10.17"}, scheme: "smtp", pinned: "leaf",
			issuer: func(*issuers) *forge.Authority { return nil }},
		{host: "satchel", about: "mail, and a TLSA record of an older key", addresses: []string{"127.30.10.18"},
			scheme: "smtp", pinned: "another"},
		{host: "hamper", about: "mail from the inner issuer, and a TLSA record of an older key",
			addresses: []string{"127.30.10.19"}, scheme: "smtp", pinned: "another",
			issuer: func(i *issuers) *forge.Authority { return i.inner }},
		{host: "valise", about: "mail under another's name, to be authenticated", addresses: []string{"127.30.10.20"},
			scheme: "smtp", authenticated: true,
			leaf: func(w *forge.Template, _ time.Time) { w.Names = []string{"post." + domain} }},
		{host: "mute", about: "mail without TLS", addresses: []string{"127.30.10.14"}, scheme: "submission",
			refuses: lines("220 mute\r\n", [2]string{"EHLO", "250 PIPELINING\r\n"})},
		{host: "parrot", about: "talks on after its go-ahead", addresses: []string{"127.30.10.15"}, scheme: "imap",
			between: "* 1 EXISTS\r\n"},
		{host: "gossip", about: "greets without end", addresses: []string{"127.30.10.16"}, scheme: "submission",
			refuses: gossip},
	}
}

// reachBerths are hard to reach, broken or hostile.
func reachBerths() []berth {
	return []berth{
		{host: "drydock", about: "a closed port", closed: []string{"127.30.8.1"}},
		{host: "breakwater", about: "accepts and stays silent", addresses: []string{"127.30.8.2"}, behave: silent},
		{host: "buoy", about: "resets every connection", addresses: []string{"127.30.8.3"}, behave: reset},
		{host: "dredger", about: "one of two addresses is closed", addresses: []string{"127.30.8.4"},
			closed: []string{"127.30.8.5"}},
		{host: "anchorage", about: "plain HTTP on the port", addresses: []string{"127.30.8.6"}, behave: plainHTTP},
		{host: "sluice", about: "nonsense in TLS records", addresses: []string{"127.30.8.7"}, behave: garbage},
		{host: "unlisted", about: "a name without an address", noConnect: true},
		{host: "torrent", about: "answers without end", addresses: []string{"127.30.8.8"}, behave: torrent},
		{host: "swell", about: "empty records without end", addresses: []string{"127.30.8.9"}, behave: swell},
		{host: "eddy", about: "a byte now and then", addresses: []string{"127.30.8.10"}, behave: drip},
		{host: "whirlpool", about: "asks for another hello again and again", addresses: []string{"127.30.8.11"},
			behave: whirlpool},
		{host: "riddle", about: "insists on a group that hardly anyone has", addresses: []string{"127.30.8.15"},
			behave: riddle},
		{host: "bouncer", about: "refuses every hello", addresses: []string{"127.30.8.16"}, behave: bouncer},
		{host: "hulk", about: "a gigantic chain", addresses: []string{"127.30.8.12"},
			behave: flight([]byte{11, 0xf0, 0, 0})},
		{host: "hollow", about: "a chain without a certificate", addresses: []string{"127.30.8.13"},
			behave: flight([]byte{11, 0, 0, 3, 0, 0, 0})},
		{host: "wormwood", about: "a certificate that is none", addresses: []string{"127.30.8.14"}, key: rsaKey(2048),
			chain: func([][]byte, *issuers) [][]byte { return [][]byte{[]byte("worms have been here")} },
			wire: &wire{versions: []tlswire.Version{tlswire.TLS12},
				suites: []string{"TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"}}},
	}
}
