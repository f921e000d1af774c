// Package fetch gets lists, answers and certificates from the addresses that
// certificates name. Whoever makes a certificate chooses these addresses, so
// only public ones are asked, and those of networks that were allowed.
package fetch

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"syscall"
	"time"
)

// Options say how things are fetched.
type Options struct {
	Allowed []Network                                                    // beside the public addresses
	Lookup  func(ctx context.Context, host string) ([]netip.Addr, error) // of host names
	Timeout time.Duration                                                // for one request; default 10 s
}

// Fetcher gets things over HTTP. It implements chain.Fetcher.
type Fetcher struct {
	options Options
	client  *http.Client
}

// New makes a fetcher.
func New(o Options) *Fetcher {
	if o.Timeout <= 0 {
		o.Timeout = 10 * time.Second
	}
	f := &Fetcher{options: o}
	f.client = &http.Client{
		Timeout: o.Timeout,
		Transport: &http.Transport{
			Proxy:       nil, // a proxy would reach what is not allowed from here
			DialContext: f.dial, MaxIdleConnsPerHost: 2, IdleConnTimeout: 5 * time.Second,
			ResponseHeaderTimeout:  o.Timeout,
			MaxResponseHeaderBytes: 64 << 10,
		},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 2 || r.URL.Scheme != "http" {
				return errors.New("it is moved too often or to another protocol")
			}
			return nil
		},
	}
	return f
}

// notPublic are networks for special purposes that netip has no word for
// (IANA special-purpose address registries).
var notPublic = []netip.Prefix{
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("0.0.0.0/8"),
	netip.MustParsePrefix("192.88.99.0/24"), netip.MustParsePrefix("::/96"), netip.MustParsePrefix("fec0::/10"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2001::/23"), netip.MustParsePrefix("2001:db8::/32"),
	netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("100::/64"), netip.MustParsePrefix("3fff::/20"),
	netip.MustParsePrefix("5f00::/16"),
}

// translated is the network of IPv6 addresses that stand for the IPv4 address in their last bytes (RFC 6052, 2.1).
var translated = netip.MustParsePrefix("64:ff9b::/96")

// meant is the address that packets to the address end at.
func meant(address netip.Addr) netip.Addr {
	address = address.Unmap().WithZone("")
	if translated.Contains(address) {
		bytes := address.As16()
		return netip.AddrFrom4([4]byte(bytes[12:]))
	}
	return address
}

// permitted reports whether the address may be asked on the port.
func (f *Fetcher) permitted(address netip.Addr, port uint16) bool {
	address = meant(address)
	for _, n := range f.options.Allowed {
		if n.holds(address, port) {
			return true
		}
	}
	for _, p := range notPublic {
		if p.Contains(address) {
			return false
		}
	}
	return address.IsGlobalUnicast() && !address.IsPrivate()
}

// dial connects to the first permitted address of the host. The address that
// was looked at is the one that is connected to.
func (f *Fetcher) dial(ctx context.Context, network, place string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(place)
	if err != nil {
		return nil, err
	}
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, fmt.Errorf("%s is no port", port)
	}
	var addresses []netip.Addr
	if address, err := netip.ParseAddr(host); err == nil {
		addresses = []netip.Addr{address}
	} else if addresses, err = f.options.Lookup(ctx, host); err != nil {
		return nil, err
	}
	var failure error
	for _, address := range addresses {
		if !f.permitted(address, uint16(number)) {
			failure = errors.Join(failure,
				fmt.Errorf("%s is neither public nor in a network that is allowed on port %s",
					address.Unmap(), port))
			continue
		}
		conn, err := (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(address.Unmap().String(), port))
		if err == nil {
			return conn, nil
		}
		failure = errors.Join(failure, err)
	}
	if failure == nil {
		failure = fmt.Errorf("%s has no address", host)
	}
	return nil, failure
}

// Get implements chain.Fetcher.
func (f *Fetcher) Get(ctx context.Context, address string, most int) ([]byte, error) {
	return f.do(ctx, http.MethodGet, address, "", nil, most)
}

// Post implements chain.Fetcher.
func (f *Fetcher) Post(ctx context.Context, address, contentType string, body []byte, most int) ([]byte, error) {
	return f.do(ctx, http.MethodPost, address, contentType, body, most)
}

func (f *Fetcher) do(ctx context.Context, method, address, contentType string, body []byte, most int) ([]byte, error) {
	where, err := url.Parse(address)
	if err != nil || where.Host == "" {
		return nil, fmt.Errorf("%q is no address of the web", address)
	}
	if where.Scheme != "http" {
		return nil, fmt.Errorf("%s is not asked: only http is used for this", address)
	}
	where.User = nil
	request, err := http.NewRequestWithContext(ctx, method, where.String(), bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("%q is no address of the web", address)
	}
	request.Header.Set("User-Agent", "nurvik")
	if contentType != "" {
		request.Header.Set("Content-Type", contentType)
	}
	response, err := f.client.Do(request)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, plain(err))
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answers with status %d", address, response.StatusCode)
	}
	data, err := io.ReadAll(io.LimitReader(response.Body, int64(most)+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", address, plain(err))
	}
	if len(data) > most {
		return nil, fmt.Errorf("%s sends more than %d bytes", address, most)
	}
	return data, nil
}

// plain says in a few words why a request failed.
func plain(err error) error {
	var timeout interface{ Timeout() bool }
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("nothing listens there")
	case errors.As(err, &timeout) && timeout.Timeout():
		return &slowError{}
	}
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

// slowError says that the time for an answer was over.
type slowError struct{}

func (*slowError) Error() string { return "no answer came in time" }

// Timeout tells whoever asks that time was the reason.
func (*slowError) Timeout() bool { return true }
