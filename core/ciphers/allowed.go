package ciphers

import "nurvik/core/tlswire"

// Allowed is what a text in one of the languages allows.
type Allowed struct {
	Suites   []tlswire.Suite   // up to TLS 1.2, in the order of preference
	Suites13 []tlswire.Suite   // of TLS 1.3; nil where the text does not speak of them
	Versions []tlswire.Version // newest first; nil where the text does not speak of them
	Groups   []tlswire.Group   // nil where the text does not speak of them
	Level    int               // the security level that it asks for, NoLevel for none

	ServerOrder bool     // it asks for the server's order
	Unknown     []string // words that mean nothing to the library
}

// NoLevel says that a text does not set the security level.
const NoLevel = -1

// most bounds what is kept of a text that somebody made endless.
const most = 4096
