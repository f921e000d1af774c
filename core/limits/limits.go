// Package limits holds what bounds visits, so that they stay polite towards the
// hosts that are visited and end whatever those answer. The same limits are
// written in policy and estate files and given as flags.
package limits

import (
	"fmt"
	"time"
)

// Limits bound visits. A zero field says nothing, and another place counts.
type Limits struct {
	Connect   time.Duration `yaml:"connect,omitempty"`   // to open one connection
	Handshake time.Duration `yaml:"handshake,omitempty"` // for one hello and all of its answer
	Dialogue  time.Duration `yaml:"dialogue,omitempty"`  // for the plaintext dialogue before TLS
	Web       time.Duration `yaml:"web,omitempty"`       // for the answer to an HTTP request
	// for the visit of one address, without what it waits for its turn
	Visit time.Duration `yaml:"visit,omitempty"`

	AtOnce        int `yaml:"connections-at-once,omitempty"`         // over all hosts
	HostAtOnce    int `yaml:"host-connections-at-once,omitempty"`    // to one host, which is an IP address
	HostPerSecond int `yaml:"host-connections-per-second,omitempty"` // to one host

	Bytes   int `yaml:"connection-bytes,omitempty"`   // received on one connection
	Records int `yaml:"connection-records,omitempty"` // of TLS, received on one connection
}

// Defaults are polite: a small server hardly notices such a visit.
var Defaults = Limits{
	Connect: 5 * time.Second, Handshake: 10 * time.Second, Dialogue: 30 * time.Second, Web: 3 * time.Second,
	Visit:  120 * time.Second,
	AtOnce: 2048, HostAtOnce: 2, HostPerSecond: 10,
	Bytes: 1 << 20, Records: 512,
}

// MostConnections bounds a visit, whatever the endpoint answers: a server with
// every registered suite needs about as many.
const MostConnections = 420

// Over are the limits with those beneath in the places where they say nothing.
func (l Limits) Over(beneath Limits) Limits {
	over(&l.Connect, beneath.Connect)
	over(&l.Handshake, beneath.Handshake)
	over(&l.Dialogue, beneath.Dialogue)
	over(&l.Web, beneath.Web)
	over(&l.Visit, beneath.Visit)
	over(&l.AtOnce, beneath.AtOnce)
	over(&l.HostAtOnce, beneath.HostAtOnce)
	over(&l.HostPerSecond, beneath.HostPerSecond)
	over(&l.Bytes, beneath.Bytes)
	over(&l.Records, beneath.Records)
	return l
}

func over[T comparable](own *T, beneath T) {
	if *own == *new(T) {
		*own = beneath
	}
}

// Check says which limit is no limit.
func (l Limits) Check() error {
	for name, negative := range map[string]bool{
		"connect": l.Connect < 0, "handshake": l.Handshake < 0, "visit": l.Visit < 0,
		"dialogue": l.Dialogue < 0, "web": l.Web < 0,
		"connections-at-once":      l.AtOnce < 0,
		"host-connections-at-once": l.HostAtOnce < 0, "host-connections-per-second": l.HostPerSecond < 0,
		"connection-bytes": l.Bytes < 0, "connection-records": l.Records < 0,
	} {
		if negative {
			return fmt.Errorf("the limit %s must be positive", name)
		}
	}
	return nil
}

// Longest is how long a visit can take with the connections' turns in it.
func (l Limits) Longest() time.Duration {
	l = l.Over(Defaults)
	return l.Visit + MostConnections*1050*time.Millisecond/time.Duration(l.HostPerSecond)
}
