package probe

import (
	"io"
	"maps"
	"net/netip"
	"slices"
	"time"
)

// Upgrade and Dialogues are for the fuzz target.
var Upgrade = upgrade

// Dialogues are the schemes that begin in plaintext.
func Dialogues() []string { return slices.Sorted(maps.Keys(dialogues)) }

// Hurry makes visits try again at once. It returns what puts the pauses back.
func Hurry() func() {
	usual, usualKnocks := pauses, knocks
	pauses, knocks = []time.Duration{0, 0},
		[]time.Duration{0, 50 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond}
	return func() { pauses, knocks = usual, usualKnocks }
}

// Front reads a web server's answer in HTTP/1.1, or in HTTP/2.
func Front(stream io.ReadWriter, two bool) (status int, err error) {
	var p page
	if two {
		p, err = getTwo(stream, "tides.tarnholm.example", netip.AddrPort{})
	} else {
		p, err = get(stream, "tides.tarnholm.example", "/", netip.AddrPort{})
	}
	return p.status, err
}
