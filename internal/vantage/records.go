package vantage

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// asker asks one name server for records that the system's resolver does not give.
type asker struct {
	server  string
	trusted bool          // what it says to be validated is
	silent  *atomic.Int32 // how often in a row it did not answer; nil where nobody counts
}

// mostSilences is how often in a row a name server may not answer before it is asked no more.
const mostSilences = 3

// errSilent says that nothing answers where the name server should be.
var errSilent = errors.New("the name server did not answer")

// answerError is an answer of a name server that says nothing of the name.
type answerError struct{ server, answer string }

func (e *answerError) Error() string { return "the name server " + e.server + " answered " + e.answer }

// recordTime is how long one answer may take.
const recordTime = 5 * time.Second

// records asks for the CAA and TLSA records of a service. What cannot be learnt
// is told among the facts.
func (a asker) records(ctx context.Context, host string, port uint16) *facts.DNS {
	out := &facts.DNS{Server: a.server}
	if ascii, err := naming.Parse(host); err == nil {
		host = ascii.String()
	}
	fail := func(kind, name string, err error) {
		if err != nil {
			out.Failures = append(out.Failures, facts.Because(facts.RecordsFailed, kind, name,
				pki.Printable(err.Error())))
		}
	}
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		reply, err := a.ask(ctx, host, kind)
		fail(dns.TypeToString[kind], host, err)
		if errors.Is(err, errSilent) { // it would not answer the others either
			return out
		}
		for _, r := range answers(reply) {
			switch r := r.(type) {
			case *dns.A:
				out.Addresses = append(out.Addresses, r.A.String())
			case *dns.AAAA:
				out.Addresses = append(out.Addresses, r.AAAA.String())
			}
		}
	}
	at, err := "", error(nil)
	out.CAA, at, err = a.authorities(ctx, host)
	if len(out.CAA) > 0 {
		out.CAAAt = at
	}
	fail("CAA", at, err)
	out.TLSAAt = fmt.Sprintf("_%d._tcp.%s", port, host)
	var reply *dns.Msg
	reply, err = a.ask(ctx, out.TLSAAt, dns.TypeTLSA)
	fail("TLSA", out.TLSAAt, err)
	for _, r := range answers(reply) {
		if r, ok := r.(*dns.TLSA); ok {
			data, err := hex.DecodeString(r.Certificate)
			fail("TLSA", out.TLSAAt, err)
			out.TLSA = append(out.TLSA, facts.TLSA{Usage: r.Usage, Selector: r.Selector, Matching: r.MatchingType,
				Data: data})
		}
	}
	out.Validated = a.trusted && len(out.TLSA) > 0 && reply.AuthenticatedData
	if len(out.TLSA) == 0 {
		out.TLSAAt = ""
	}
	return out
}

// authorities are the CAA records that hold for the name, and where they were found: going up, the first that has any
// (RFC 8659, 3). With an error it is where that was met.
func (a asker) authorities(ctx context.Context, host string) (found []facts.CAA, at string, err error) {
	for at = host; at != ""; _, at, _ = strings.Cut(at, ".") {
		reply, err := a.ask(ctx, at, dns.TypeCAA)
		if err != nil {
			return nil, at, err
		}
		for _, r := range answers(reply) {
			if r, ok := r.(*dns.CAA); ok {
				found = append(found, facts.CAA{Critical: r.Flag&128 != 0, Tag: pki.Printable(r.Tag),
					Value: pki.Printable(r.Value)})
			}
		}
		if len(found) > 0 {
			return found, at, nil
		}
	}
	return nil, "", nil
}

func answers(reply *dns.Msg) []dns.RR {
	if reply == nil {
		return nil
	}
	return reply.Answer
}

// ask asks over UDP, and over TCP where the answer does not fit.
func (a asker) ask(ctx context.Context, name string, kind uint16) (*dns.Msg, error) {
	if a.silent != nil && a.silent.Load() >= mostSilences {
		return nil, fmt.Errorf("%w: %s, as before", errSilent, a.server)
	}
	ctx, cancel := context.WithTimeout(ctx, recordTime)
	defer cancel()
	question := new(dns.Msg)
	question.SetQuestion(dns.Fqdn(name), kind)
	question.SetEdns0(1232, true) // what fits everywhere, and whether DNSSEC validated it (RFC 6840, 5.7)
	question.AuthenticatedData = true
	for _, network := range []string{"udp", "tcp"} {
		reply, _, err := (&dns.Client{Net: network}).ExchangeContext(ctx, question, a.server)
		switch {
		case err != nil:
			a.heard(false)
			return nil, fmt.Errorf("%w: %s: %w", errSilent, a.server, err)
		}
		a.heard(true)
		switch {
		case reply.Truncated && network == "udp":
			continue
		case reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError:
			return nil, &answerError{a.server, dns.RcodeToString[reply.Rcode]}
		}
		return reply, nil
	}
	return nil, fmt.Errorf("the answer of the name server %s is cut off", a.server)
}

func (a asker) heard(answer bool) {
	switch {
	case a.silent == nil:
	case answer:
		a.silent.Store(0)
	default:
		a.silent.Add(1)
	}
}
