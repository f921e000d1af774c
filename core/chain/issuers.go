package chain

import (
	"bytes"
	"context"
	"encoding/pem"
	"fmt"
	"time"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// maxClimb is how many issuers above each other are fetched for one chain.
const maxClimb = 4

// FetchIssuers fetches the issuer of the certificate from where it says (RFC
// 5280, 4.2.2.1), and then the issuer's, until one certifies itself or known
// says that its issuer is known.
func (r *Round) FetchIssuers(ctx context.Context, c *pki.Certificate,
	known func(*pki.Certificate) bool) []facts.Fetched {
	var out []facts.Fetched
	for range maxClimb {
		var next *pki.Certificate
		for _, place := range addresses(c, pki.AccessCAIssuers) {
			if next != nil {
				break
			}
			f := r.fetchIssuer(ctx, place)
			for _, der := range f.Certificates {
				issuer, err := pki.ParseCertificate(der)
				if err == nil && issuer.Subject.Key() == c.Issuer.Key() &&
					r.Verifier.check(c, issuer.PublicKey) == nil {
					next = issuer
				}
			}
			if next == nil && !f.Failure.Given() {
				f.Failure = facts.Because(facts.NotItsIssuer, c.Label())
			}
			out = append(out, f)
		}
		if next == nil || next.SelfIssued() || known(next) {
			break
		}
		c = next
	}
	return out
}

func (r *Round) fetchIssuer(ctx context.Context, place string) facts.Fetched {
	key := "issuer " + place
	certificates, err := once(ctx, r, key, certificatesIn, func(ctx context.Context) (got[[][]byte], error) {
		data, err := r.patient(place, func() ([]byte, error) { return r.Fetch.Get(ctx, place, maxIssuerFile) })
		if err != nil {
			return got[[][]byte]{}, err
		}
		certificates, err := certificatesIn(data)
		return got[[][]byte]{certificates, data, len(data), r.Now().Add(24 * time.Hour)}, err
	})
	f := facts.Fetched{Place: place, Certificates: certificates}
	if err != nil {
		f.Failure = unreachable(err)
	}
	return f
}

// certificatesIn reads one certificate or a set of them in PKCS#7, in DER or, which some send, in PEM.
func certificatesIn(data []byte) ([][]byte, error) {
	if block, _ := pem.Decode(data); block != nil {
		data = block.Bytes
	}
	data = bytes.Clone(data)
	if c, err := pki.ParseCertificate(data); err == nil {
		return [][]byte{c.Raw}, nil
	}
	set, err := pki.ParseCertificateSet(data)
	if err != nil || len(set.Certificates) == 0 {
		return nil, fmt.Errorf("what is there is neither a certificate nor a set of them")
	}
	return set.Certificates[:min(len(set.Certificates), 20)], nil
}
