package settings

import (
	"fmt"

	"github.com/spf13/pflag"

	"nurvik/core/limits"
)

// AddLimits adds a flag for each limit of visits that a person may want to
// change for one call. A flag that is not given leaves its limit open.
func AddLimits(flags *pflag.FlagSet, l *limits.Limits) {
	d := limits.Defaults
	flags.DurationVar(&l.Connect, "connect-timeout", 0,
		fmt.Sprintf("wait at most this `TIME` for a connection (default %s)", d.Connect))
	flags.DurationVar(&l.Handshake, "handshake-timeout", 0,
		fmt.Sprintf("wait at most this `TIME` for the answer to a ClientHello (default %s)", d.Handshake))
	flags.DurationVar(&l.Dialogue, "dialogue-timeout", 0,
		fmt.Sprintf("wait at most this `TIME` for the dialogue before STARTTLS (default %s)", d.Dialogue))
	flags.DurationVar(&l.Web, "web-timeout", 0,
		fmt.Sprintf("wait at most this `TIME` for the answer to an HTTP request (default %s)", d.Web))
	flags.DurationVar(&l.Visit, "visit-timeout", 0, fmt.Sprintf("spend at most this `TIME` on one address (default %s)",
		d.Visit))
	flags.IntVar(&l.AtOnce, "parallel", 0, fmt.Sprintf("open at most `N` connections at once in all (default %d)",
		d.AtOnce))
	flags.IntVar(&l.HostAtOnce, "host-parallel", 0,
		fmt.Sprintf("open at most `N` connections at once to one host (default %d)", d.HostAtOnce))
	flags.IntVar(&l.HostPerSecond, "host-rate", 0,
		fmt.Sprintf("open at most `N` connections per second to one host (default %d)", d.HostPerSecond))
}
