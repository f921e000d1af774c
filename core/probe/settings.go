package probe

import (
	"context"
	"errors"

	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// askSettings asks what no other hello shows.
func askSettings(ctx context.Context, v *visit) {
	s := v.observation.Settings
	if versions := v.accepted(); len(versions) > 1 {
		// A client that comes back with an older version says so, and an endpoint that could do
		// more refuses (RFC 7507).
		hello := v.hello(versions[1])
		hello.Signals = []tlswire.Suite{tlswire.FallbackSignal}
		answer, err := v.exchange(ctx, facts.Because(facts.ForFallback), hello)
		var alert *tlswire.AlertError
		switch {
		case errors.As(err, &alert) && alert.Alert.Name() == "inappropriate_fallback":
			s.FallbackSignal = facts.Yes
		case answer.Hello.Version == versions[1]:
			s.FallbackSignal = facts.No
		}
	}
	if v.call.Effort != facts.Full {
		return
	}
	if len(v.accepted()) > 0 {
		hello := v.hello(v.accepted()[0])
		hello.Padding = 5000
		answer, err := v.exchange(ctx, facts.Because(facts.ForLarge), hello)
		s.ToleratesLarge = facts.Unknown
		switch {
		case answer.Hello.Version != 0:
			s.ToleratesLarge = facts.Yes
		case refused(err) || isTimeout(err):
			s.ToleratesLarge = facts.No
		}
	}
	askResumption(ctx, v)
}
