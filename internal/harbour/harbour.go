package harbour

import (
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"time"

	"nurvik/core/forge"
)

// Options say where and when the harbour is.
type Options struct {
	Directory string    // for keys, certificates and the estate file; made when missing
	Port      uint16    // on which every endpoint listens, on addresses of its own; 0 for one that is free
	Now       time.Time // to which dates are relative
}

// DefaultPort is where endpoints listen unless told otherwise: not 443, which
// needs privileges.
const DefaultPort = 24430

// nameServerAddress is where the name server listens, on the harbour's port.
const nameServerAddress = "127.30.0.53"

// Harbour is the running estate.
type Harbour struct {
	EstateFile string // the estate file that describes it
	Files      string // directory of certificate files to be audited
	Hosts      string // directory of what lies on the machines
	Machines   string // directory of machines with the configuration of servers, each the root of a file system
	Passwords  string // file of the passwords for what is protected there
	NameServer string // ADDRESS:PORT

	Outside   map[string][2]netip.AddrPort // endpoints that are others outside: where they are, and where one is led to
	Endpoints int
	Port      uint16 // on which every endpoint listens

	listeners *listeners
	names     *nameServer
}

// tries is how often a free port is looked for, since another process may take it meanwhile.
const tries = 5

// Start makes the certificates, opens the ports and writes the files.
func Start(o Options) (*Harbour, error) {
	if o.Port != 0 {
		return start(o)
	}
	for try := 1; ; try++ {
		port, err := freePort()
		if err != nil {
			return nil, err
		}
		o.Port = port
		h, err := start(o)
		if err == nil || try == tries || !errors.Is(err, syscall.EADDRINUSE) {
			return h, err
		}
	}
}

// freePort is one that no harbour uses: each has a name server at the same address.
func freePort() (uint16, error) {
	l, err := net.Listen("tcp", nameServerAddress+":0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	address, err := netip.ParseAddrPort(l.Addr().String())
	return address.Port(), err
}

func start(o Options) (*Harbour, error) {
	// The way to the files is open, so that their own modes count.
	if err := os.MkdirAll(o.Directory, 0o755); err != nil {
		return nil, err
	}
	keys, err := newKeyring(filepath.Join(o.Directory, "keys"))
	if err != nil {
		return nil, err
	}
	o.Now = o.Now.UTC().Truncate(time.Second)
	registry := newRegistry(o)
	i, err := newIssuers(keys, o.Now, registry)
	if err != nil {
		return nil, err
	}
	h := &Harbour{
		Port:       o.Port,
		EstateFile: filepath.Join(o.Directory, "estate.yaml"),
		Files:      filepath.Join(o.Directory, "files"),
		Hosts:      filepath.Join(o.Directory, "hosts"),
		Machines:   filepath.Join(o.Directory, "machines"),
		Passwords:  filepath.Join(o.Directory, "passwords.txt"),
		NameServer: netip.AddrPortFrom(netip.MustParseAddr(nameServerAddress), o.Port).String(),
		listeners:  newListeners(),
		names:      newNameServer(),
		Outside:    map[string][2]netip.AddrPort{},
	}
	all := berths(registry)
	err = h.listeners.serveHTTP(netip.AddrPortFrom(netip.MustParseAddr(registryAddress), o.Port).String(), registry)
	if err = errors.Join(err, h.open(all, i, o)); err != nil {
		h.Close()
		return nil, err
	}
	h.Endpoints = len(all)
	if err := errors.Join(h.write(all, i, o), i.writeHosts(h.Hosts), i.writeMachines(h.Machines, o.Port)); err != nil {
		h.Close()
		return nil, err
	}
	return h, nil
}

// Close closes every port and waits for what still runs.
func (h *Harbour) Close() {
	h.names.close()
	h.listeners.close()
}

// open makes each berth's certificate and opens its ports.
func (h *Harbour) open(all []berth, i *issuers, o Options) error {
	served := make([]*tls.Certificate, len(all))
	failures := make([]error, len(all))
	var group sync.WaitGroup
	for n, b := range all {
		if b.behave == nil && len(b.addresses) > 0 {
			group.Go(func() { served[n], failures[n] = b.certificate(i) })
		}
	}
	group.Wait()
	for n, b := range all {
		if failures[n] != nil {
			return fmt.Errorf("%s: %w", b.fullName(), failures[n])
		}
		i.keep(b, served[n])
		if err := h.moor(b, served[n], i, o.Port); err != nil {
			return err
		}
	}
	return h.names.start(h.NameServer)
}

func (h *Harbour) moor(b berth, certificate *tls.Certificate, i *issuers, port uint16) error {
	for _, address := range append(append([]string{}, b.addresses...), b.closed...) {
		h.names.addresses[b.fullName()] = append(h.names.addresses[b.fullName()], netip.MustParseAddr(address))
	}
	h.names.publish(b, certificate)
	places := b.addresses
	if b.outside != "" {
		places = append(slices.Clone(places), b.outside)
		h.Outside[b.endpoint()] = [2]netip.AddrPort{netip.AddrPortFrom(netip.MustParseAddr(b.addresses[0]), port),
			netip.AddrPortFrom(netip.MustParseAddr(b.outside), port)}
	}
	for _, address := range places {
		at := address + ":" + strconv.Itoa(int(port))
		var err error
		switch {
		case b.behave != nil:
			err = h.listeners.serve(at, b.behave)
		case b.wire != nil:
			err = h.listeners.serve(at, b.wire.serve(certificate))
		default:
			var config *tls.Config
			config, err = b.settings(certificate, i)
			switch {
			case err != nil:
			case b.door != nil && b.scheme == "":
				err = h.listeners.serve(at, b.door.before(speak(atOnce, "", config)))
			case b.door != nil:
				err = h.listeners.serve(at, b.door.before(speak(dialogues[b.scheme], "", config)))
			case b.refuses != nil:
				err = h.listeners.serve(at, speak(b.refuses, "", config))
			case b.scheme != "":
				err = h.listeners.serve(at, speak(dialogues[b.scheme], b.between, config))
			default:
				err = h.listeners.serveTLS(at, config, b.about, !b.loose)
			}
		}
		if err == nil && b.plain {
			err = h.listeners.serveHTTP(address+":"+strconv.Itoa(int(port+plainOffset)), b.plainly())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// plainOffset is how far above its port a berth has plain HTTP.
const plainOffset = 2000

// plainly answers on the plain port.
func (b berth) plainly() http.Handler {
	var usual http.Handler = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "Welcome ashore.\n")
	})
	if b.redirects {
		usual = http.RedirectHandler("https://"+b.fullName()+"/", http.StatusMovedPermanently)
	}
	if b.renewal != nil {
		return b.renewal.atPlain(usual)
	}
	return usual
}

func (b berth) settings(certificate *tls.Certificate, i *issuers) (*tls.Config, error) {
	c := &tls.Config{Certificates: []tls.Certificate{*certificate}, MinVersion: tls.VersionTLS12,
		MaxVersion: tls.VersionTLS13}
	if b.min != 0 {
		c.MinVersion = b.min
	}
	if b.max != 0 {
		c.MaxVersion = b.max
	}
	if b.config != nil {
		return c, b.config(c, i, b)
	}
	return c, nil
}

// certificate makes the berth's key and chain.
func (b berth) certificate(i *issuers) (*tls.Certificate, error) {
	key, err := b.makeKey(i.keys)
	if err != nil {
		return nil, err
	}
	leaf, issuer, err := b.issueLeaf(i, key)
	if err != nil {
		return nil, err
	}
	chain := [][]byte{leaf}
	if issuer != nil {
		chain = append(chain, issuer.Chain()...)
	}
	if b.chain != nil {
		chain = b.chain(chain, i)
	}
	served := &tls.Certificate{Certificate: chain, PrivateKey: key}
	if b.revoked {
		if err := i.registry.revoke(issuer, leaf); err != nil {
			return nil, err
		}
	}
	if b.staple != "" {
		c, err := x509.ParseCertificate(leaf)
		if err != nil {
			return nil, err
		}
		if served.OCSPStaple, err = i.registry.answer(issuer.Slug(), b.staple, c.SerialNumber); err != nil {
			return nil, err
		}
	}
	return served, nil
}

func (b berth) makeKey(keys *keyring) (crypto.Signer, error) {
	if b.key != nil {
		return b.key(keys, b.fullName())
	}
	return keys.ec(b.fullName())
}

func (b berth) issueLeaf(i *issuers, key crypto.Signer) ([]byte, *forge.Authority, error) {
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return nil, nil, err
	}
	w := forge.Template{Name: b.fullName(), Names: []string{b.fullName()}, SPKI: spki}
	lasting(-20*dayLong, -20*dayLong+leafLifetime)(&w, i.now)
	if b.leaf != nil {
		b.leaf(&w, i.now)
	}
	issuer := i.outer
	if b.issuer != nil {
		issuer = b.issuer(i)
	}
	der, err := forge.Issue(issuer, key, w)
	return der, issuer, err
}

// writeFile writes below the harbour's directory.
func writeFile(directory, name string, data []byte) error {
	path := filepath.Join(directory, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, data, 0o644)
}
