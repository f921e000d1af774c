package chain

import (
	"context"
	"encoding/pem"
	"errors"
	"fmt"
	"net/url"
	"sync"
	"time"

	"nurvik/core/pki"
)

// Round is what one audit asks the issuers. In it each list is fetched once,
// each responder is asked once for each certificate, and an issuer that let one
// question run out of time is not asked again. It is safe for concurrent use.
type Round struct {
	*Inquirer
	ctx   context.Context // of the audit
	asked memory
	mutex sync.Mutex
	slow  map[string]bool // hosts that did not answer in time
	lists int             // bytes of lists that were fetched
}

// maxListBytes bounds the lists of one round, in bytes: a public CA has about a
// megabyte, and an estate knows a few dozen.
const maxListBytes = 512 << 20

// Round begins a round, which ends with the context.
func (q *Inquirer) Round(ctx context.Context) *Round {
	return &Round{Inquirer: q, ctx: ctx, slow: map[string]bool{}}
}

// forever is the end of what counts for a whole round.
var forever = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// minute is how long a failure is remembered beyond the round.
const minute = time.Minute

// once gets something once in the round, and not at all where an earlier round
// got it, or another process, and it still holds. read reads what was kept.
func once[T any](ctx context.Context, r *Round, key string, read func([]byte) (T, error),
	get func(context.Context) (got[T], error)) (T, error) {
	return recall(ctx, r.ctx, &r.asked, key, r.Now, func(ctx context.Context) (got[T], error) {
		value, err := recall(ctx, ctx, &r.got, key, r.Now, func(ctx context.Context) (got[T], error) {
			if r.Shelf != nil {
				data, until := r.Shelf.Load(ctx, key)
				value, err := read(data)
				// What is to hold for longer than a day is from a clock that was put back.
				if err == nil && len(data) > 0 && r.Now().Before(until) && until.Equal(lasts(r.Now(), until)) {
					return got[T]{value: value, size: len(data), until: until}, nil
				}
			}
			result, err := get(ctx)
			switch {
			case err != nil:
				result.until = r.Now().Add(minute)
			case r.Shelf != nil && r.Now().Before(result.until):
				r.Shelf.Save(ctx, key, result.data, result.until)
			}
			return result, err
		})
		return got[T]{value: value, until: forever}, err
	})
}

// errSlow is why an issuer is not asked again.
var errSlow = errors.New("this issuer did not answer in time before, and is not asked again in this audit")

// patient calls one that asks an address, unless its host was too slow before.
func (r *Round) patient(address string, ask func() ([]byte, error)) ([]byte, error) {
	host := address
	if u, err := url.Parse(address); err == nil {
		host = u.Host
	}
	r.mutex.Lock()
	slow := r.slow[host]
	r.mutex.Unlock()
	if slow {
		return nil, fmt.Errorf("%s: %w", pki.Printable(address), errSlow)
	}
	data, err := ask()
	var timeout interface{ Timeout() bool }
	if err != nil && errors.As(err, &timeout) && timeout.Timeout() {
		r.mutex.Lock()
		defer r.mutex.Unlock()
		r.slow[host] = true
	}
	return data, err
}

// list fetches the list at one address.
func (r *Round) list(ctx context.Context, address string) (*pki.RevocationList, error) {
	return once(ctx, r, "list "+address, parseList, func(ctx context.Context) (got[*pki.RevocationList], error) {
		none := got[*pki.RevocationList]{}
		r.mutex.Lock()
		over := r.lists > maxListBytes
		r.mutex.Unlock()
		if over {
			return none, fmt.Errorf("%s: the CRLs of this audit have more than %d MiB already", pki.Printable(address),
				maxListBytes>>20)
		}
		data, err := r.patient(address, func() ([]byte, error) { return r.Fetch.Get(ctx, address, maxList) })
		if err != nil {
			return none, err
		}
		r.mutex.Lock()
		r.lists += len(data)
		r.mutex.Unlock()
		list, err := parseList(data)
		if err != nil {
			return none, fmt.Errorf("%s holds no CRL: %w", pki.Printable(address), err)
		}
		return got[*pki.RevocationList]{list, data, len(data), lasts(r.Now(), list.NextUpdate)}, nil
	})
}

// parseList reads a list in DER, or in PEM, which RFC 5280 does not allow over
// HTTP and some publish all the same.
func parseList(data []byte) (*pki.RevocationList, error) {
	if block, _ := pem.Decode(data); block != nil {
		data = block.Bytes
	}
	return pki.ParseRevocationList(data)
}

// lasts is how long something is remembered that is valid until then.
func lasts(now, until time.Time) time.Time {
	if day := now.Add(24 * time.Hour); until.After(day) {
		return day
	}
	return until
}

// addresses are where the certificate says that something can be had, at most
// maxPlaces.
func addresses(c *pki.Certificate, method pki.OID) []string {
	var out []string
	for _, a := range c.AuthorityInfo {
		if a.Method == method && a.Location.Kind == pki.NameURI && len(out) < maxPlaces {
			out = append(out, a.Location.Value)
		}
	}
	return out
}
