package harbour

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"sync"
	"time"
)

// behaviour answers one connection; the connection is closed when it returns.
type behaviour func(ctx context.Context, conn net.Conn)

// silent reads and never answers.
func silent(ctx context.Context, conn net.Conn) {
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	_, _ = io.Copy(io.Discard, conn)
}

// reset drops the connection so that the peer sees a reset.
func reset(_ context.Context, conn net.Conn) {
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	_, _ = bufio.NewReader(conn).Peek(1)
	if tcp, ok := conn.(*net.TCPConn); ok {
		_ = tcp.SetLinger(0)
	}
}

// plainHTTP answers whatever comes as an HTTP server without TLS does.
func plainHTTP(_ context.Context, conn net.Conn) {
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	_, _ = bufio.NewReader(conn).Peek(1)
	_, _ = io.WriteString(conn,
		"HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain\r\nConnection: close\r\n\r\nThis is the anchorage. "+
			"Speak HTTP.\r\n")
}

// garbage answers with TLS records that hold nonsense.
func garbage(_ context.Context, conn net.Conn) {
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	_, _ = bufio.NewReader(conn).Peek(1)
	_, _ = conn.Write([]byte{22, 3, 3, 0, 12, 2, 0, 0, 8, 3, 3, 0xde, 0xad, 0xbe, 0xef, 0, 0})
}

// listeners are the open ports of the harbour.
type listeners struct {
	ctx    context.Context
	cancel context.CancelFunc
	group  sync.WaitGroup
	open   []io.Closer
}

func newListeners() *listeners {
	ctx, cancel := context.WithCancel(context.Background())
	return &listeners{ctx: ctx, cancel: cancel}
}

// listen opens the address, with a sentence about what to do when it is taken.
func (l *listeners) listen(address string) (net.Listener, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("the harbour cannot listen on %s: %w; choose another port with --harbour-port", address,
			err)
	}
	l.open = append(l.open, listener)
	return listener, nil
}

// serveTLS answers HTTPS on the address.
func (l *listeners) serveTLS(address string, config *tls.Config, about string, strict bool) error {
	listener, err := l.listen(address)
	if err != nil {
		return err
	}
	l.web(tls.NewListener(listener, config), http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if strict {
			w.Header().Set("Strict-Transport-Security", "max-age=31536000")
		}
		fmt.Fprintln(w, "Tarnholm Harbour Authority: "+about)
	}))
	return nil
}

// serveHTTP answers without TLS on the address.
func (l *listeners) serveHTTP(address string, handler http.Handler) error {
	listener, err := l.listen(address)
	if err != nil {
		return err
	}
	l.web(listener, handler)
	return nil
}

func (l *listeners) web(listener net.Listener, handler http.Handler) {
	server := &http.Server{
		Handler:           handler,
		ErrorLog:          log.New(io.Discard, "", 0), // failed handshakes are this estate's daily bread
		ReadHeaderTimeout: 5 * time.Second,
		IdleTimeout:       5 * time.Second,
	}
	l.open = append(l.open, server)
	l.group.Go(func() { _ = server.Serve(listener) })
}

// serve answers each connection on the address with the behaviour.
func (l *listeners) serve(address string, behave behaviour) error {
	listener, err := l.listen(address)
	if err != nil {
		return err
	}
	l.group.Go(func() {
		for {
			conn, err := listener.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				continue
			}
			l.group.Go(func() {
				defer conn.Close()
				behave(l.ctx, conn)
			})
		}
	})
	return nil
}

func (l *listeners) close() {
	l.cancel()
	for _, c := range l.open {
		_ = c.Close()
	}
	l.group.Wait()
}
