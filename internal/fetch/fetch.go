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

	"nurvik/internal/outbound"
)

// Options say how things are fetched.
type Options struct {
	Allowed []outbound.Network                                           // beside the public addresses
	Lookup  func(ctx context.Context, host string) ([]netip.Addr, error) // of host names
	Timeout time.Duration                                                // for one request; default 10 s
}

// Fetcher gets things over HTTP. It implements chain.Fetcher.
type Fetcher struct {
	options Options
	gate    *outbound.Gate
	client  *http.Client
}

// New makes a fetcher.
func New(o Options) *Fetcher {
	if o.Timeout <= 0 {
		o.Timeout = 10 * time.Second
	}
	f := &Fetcher{options: o, gate: outbound.Issuers(o.Allowed)}
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
		if f.gate.Check(netip.AddrPortFrom(address, uint16(number))) != nil {
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
