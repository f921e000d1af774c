package judge

import (
	"fmt"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/trust"
)

// timeState looks at every certificate of the best path; the windows before
// expiry are the leaf's alone. The stronger code replaces the weaker.
func timeState(b *bundle) []Finding {
	moment := b.context.At
	var out []Finding
	for _, c := range b.assessed.path.Below() {
		left := lifetime.Left(c, moment)
		switch state := lifetime.StateAt(c, moment, b.context.Policy.Time.Windows()); {
		case state == lifetime.Expired && c.NotAfter.IsZero():
			out = append(out, aboutCertificate("time.expired", c, "%s %s.", c.Label(), expired(c)))
		case state == lifetime.Expired:
			out = append(out, aboutCertificate("time.expired", c, "%s %s, %s ago.", c.Label(), expired(c), span(left)))
		case state == lifetime.Unknown: // no client accepts it, whatever it was meant to say
			out = append(out, aboutCertificate("time.not-yet-valid", c,
				"%s has a notBefore that cannot be read: there is no time at which it is valid.", c.Label()))
		case state == lifetime.NotYetValid:
			out = append(out, aboutCertificate("time.not-yet-valid", c, "%s is not valid until %s, in %s.",
				c.Label(), day(c.NotBefore), span(lifetime.Between(moment, c.NotBefore))))
		case state == lifetime.ExpiresSoon && c == b.leaf:
			out = append(out, aboutCertificate("time.expires-soon", c, "%s expires on %s, in %s.", c.Label(),
				day(c.NotAfter), span(left)))
		case state == lifetime.RenewalDue && c == b.leaf:
			out = append(out, aboutCertificate("time.renewal-due", c, "%s has %s left of %s.", c.Label(), span(left),
				span(lifetime.Span(c))))
		}
	}
	return out
}

// timeTooLong compares the lifetime of the leaf with what the policy allows,
// and with the rules for public CAs where the path ends in a public anchor.
func timeTooLong(b *bundle) []Finding {
	lives, path, leaf := b.context.Policy.Lifetimes, b.assessed.path, b.leaf
	if leaf.NotBefore.IsZero() || leaf.NotAfter.IsZero() || leaf.IsCA() {
		return nil
	}
	days := lives.MostDays
	if days == 0 && path.Anchor != nil && path.Anchor.Kind == trust.Public {
		days = lives.PublicDays(leaf.NotBefore)
	}
	if days == 0 || lifetime.Span(leaf) <= lifetime.Seconds(days)*lifetime.Day {
		return nil
	}
	rule := fmt.Sprintf("the policy allows %s", plural(days, "day"))
	if lives.MostDays == 0 {
		rule = fmt.Sprintf("a public CA may give at most %s to a certificate that it issues on %s", plural(days, "day"),
			leaf.NotBefore.UTC().Format(time.DateOnly))
	}
	return []Finding{aboutCertificate("time.too-long", leaf, "%s has a lifetime of %s; %s.", leaf.Label(),
		span(lifetime.Span(leaf)), rule)}
}
