package harbour

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ocsp"

	"nurvik/core/forge"
)

// registryAddress is where the issuers publish their certificates, lists and
// answers; on deafAddress nothing listens.
const (
	registryAddress = "127.30.9.1"
	deafAddress     = "127.30.9.99"
)

// registry is what the issuers publish. Lists and answers are made afresh at
// every request, so a harbour that runs for weeks never has old ones, except
// where it is meant to.
type registry struct {
	now  func() time.Time
	base string // http://ADDRESS:PORT
	deaf string // the same for the responder that nobody answers at

	mutex       sync.Mutex
	authorities map[string]*published // by slug
}

// published is an authority with what it has revoked.
type published struct {
	authority *forge.Authority
	issuer    *x509.Certificate
	revoked   []revocation
	delegate  *x509.Certificate // signs answers in its name
	key       crypto.Signer
}

type revocation struct {
	serial *big.Int
	at     time.Time
	reason int
}

func newRegistry(o Options) *registry {
	started := time.Now()
	return &registry{
		now:         func() time.Time { return o.Now.Add(time.Since(started)) },
		base:        fmt.Sprintf("http://%s:%d", registryAddress, o.Port),
		deaf:        fmt.Sprintf("http://%s:%d", deafAddress, o.Port),
		authorities: map[string]*published{},
	}
}

// publish adds the authority, unless one of its name is there already.
func (r *registry) publish(a *forge.Authority) error {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if _, ok := r.authorities[a.Slug()]; ok {
		return nil
	}
	issuer, err := x509.ParseCertificate(a.DER)
	if err != nil {
		return fmt.Errorf("publish %s: %w", a.Name, err)
	}
	r.authorities[a.Slug()] = &published{authority: a, issuer: issuer}
	return nil
}

// revoke takes a certificate of the authority back: its key was stolen two days ago.
func (r *registry) revoke(a *forge.Authority, der []byte) error {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return err
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	p, ok := r.authorities[a.Slug()]
	if !ok {
		return fmt.Errorf("%s publishes nothing", a.Name)
	}
	p.revoked = append(p.revoked, revocation{c.SerialNumber, r.now().Add(-2 * dayLong).Truncate(time.Second),
		ocsp.KeyCompromise})
	return nil
}

// answer makes a response about the serial number. The kind is good, which
// tells what is true, unknown or stale.
func (r *registry) answer(slug, kind string, serial *big.Int) ([]byte, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	p, ok := r.authorities[slug]
	if !ok {
		return ocsp.UnauthorizedErrorResponse, nil
	}
	now := r.now().UTC().Truncate(time.Second)
	response := ocsp.Response{Status: ocsp.Good, SerialNumber: serial, ThisUpdate: now.Add(-time.Hour),
		NextUpdate: now.Add(3 * dayLong)}
	for _, x := range p.revoked {
		if x.serial.Cmp(serial) == 0 {
			response.Status, response.RevokedAt, response.RevocationReason = ocsp.Revoked, x.at, x.reason
		}
	}
	switch kind {
	case "unknown":
		response.Status = ocsp.Unknown
	case "stale":
		response.ThisUpdate, response.NextUpdate = now.Add(-9*dayLong), now.Add(-2*dayLong)
	}
	if err := p.appoint(now); err != nil {
		return nil, err
	}
	response.Certificate = p.delegate
	return ocsp.CreateResponse(p.issuer, p.delegate, response, p.key)
}

// appoint gives the responder a certificate of its own, as issuers do.
func (p *published) appoint(now time.Time) error {
	if p.delegate != nil && now.Before(p.delegate.NotAfter.Add(-dayLong)) {
		return nil
	}
	key, err := newECKey()
	if err != nil {
		return err
	}
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: big.NewInt(now.Unix()), Subject: pkix.Name{CommonName: p.authority.Name + " Responder"},
		NotBefore: now.Add(-30 * dayLong), NotAfter: now.Add(60 * dayLong), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageOCSPSigning},
		// not to be asked about
		ExtraExtensions: []pkix.Extension{{Id: []int{1, 3, 6, 1, 5, 5, 7, 48, 1, 5}, Value: []byte{5, 0}}},
	}, p.issuer, key.Public(), p.authority.Key)
	if err != nil {
		return err
	}
	p.key = key
	p.delegate, err = x509.ParseCertificate(der)
	return err
}

// list makes the authority's revocation list.
func (r *registry) list(slug string) ([]byte, bool, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	p, ok := r.authorities[slug]
	if !ok {
		return nil, false, nil
	}
	now := r.now().UTC().Truncate(time.Second)
	template := &x509.RevocationList{Number: big.NewInt(now.Unix()), ThisUpdate: now.Add(-time.Hour),
		NextUpdate: now.Add(7 * dayLong)}
	for _, x := range p.revoked {
		template.RevokedCertificateEntries = append(template.RevokedCertificateEntries,
			x509.RevocationListEntry{SerialNumber: x.serial, RevocationTime: x.at, ReasonCode: x.reason})
	}
	der, err := x509.CreateRevocationList(rand.Reader, template, p.issuer, p.authority.Key)
	return der, true, err
}

// ServeHTTP answers /issuers/NAME.der, /lists/NAME.crl and /status/KIND/NAME.
func (r *registry) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	kind, name, _ := strings.Cut(strings.TrimPrefix(request.URL.Path, "/"), "/")
	var data []byte
	var err error
	found := true
	switch kind {
	case "issuers":
		r.mutex.Lock()
		p, ok := r.authorities[strings.TrimSuffix(name, ".der")]
		r.mutex.Unlock()
		if found = ok; ok {
			data = p.authority.DER
			if len(p.authority.Above) > 0 { // some issuers send a set of certificates
				data, err = forge.CertificateSet(data, p.authority.Above[0].DER)
			}
		}
	case "lists":
		data, found, err = r.list(strings.TrimSuffix(name, ".crl"))
	case "status":
		mode, slug, _ := strings.Cut(name, "/")
		body, readErr := io.ReadAll(io.LimitReader(request.Body, 10<<10))
		question, parseErr := ocsp.ParseRequest(body)
		if readErr != nil || parseErr != nil {
			data = ocsp.MalformedRequestErrorResponse
			break
		}
		data, err = r.answer(slug, mode, question.SerialNumber)
		w.Header().Set("Content-Type", "application/ocsp-response")
	default:
		found = false
	}
	switch {
	case err != nil:
		http.Error(w, err.Error(), http.StatusInternalServerError)
	case !found:
		http.NotFound(w, request)
	default:
		_, _ = w.Write(data) // who has hung up needs no answer
	}
}
