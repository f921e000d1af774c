package main

import (
	"context"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/core/tlswire"
	"nurvik/internal/audit"
	"nurvik/internal/vantage"
)

const (
	endpointCount = 1000
	parallel      = 64 // the default of "nurvik audit"
)

// visitFigure: auditing many loopback endpoints against a bare program that
// opens as many connections, sends one fixed hello on each and only reads.
func visitFigure(directory string) (f figure, stop func(), err error) {
	listener, anchor, err := endpoints()
	if err != nil {
		return f, nil, err
	}
	port := listener.Addr().(*net.TCPAddr).Port
	estate := filepath.Join(directory, "estate.yaml")
	var text strings.Builder
	text.WriteString("stores: {bench: {kind: public, path: bench.pem}}\ndefaults: {trust: [bench]}\nendpoints:\n")
	for i := range endpointCount {
		fmt.Fprintf(&text, "  - {endpoint: tides-%d.tarnholm.example, names: [tides.tarnholm.example], connect: ['%s:%d']}\n", i, address(i), port)
	}
	if err := os.WriteFile(estate, []byte(text.String()), 0o600); err != nil {
		return f, nil, err
	}
	if err := os.WriteFile(filepath.Join(directory, "bench.pem"), anchor, 0o600); err != nil {
		return f, nil, err
	}
	connections, err := auditEstate(estate)
	if err != nil {
		return f, nil, err
	}
	return figure{
		name: fmt.Sprintf("audit %d loopback endpoints with %d connections each: wall time, against as many bare connections", endpointCount, connections/endpointCount), limit: 1.5,
		ours:  func() (err error) { connections, err = auditEstate(estate); return err },
		floor: func() error { return bare(connections, port) },
	}, func() { _ = listener.Close() }, nil
}

func address(i int) string { return fmt.Sprintf("127.31.%d.%d", i/250, 1+i%250) }

// endpoints serves TLS 1.2 and 1.3 on every loopback address.
func endpoints() (net.Listener, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	span := forge.Template{Name: "Bench Root", From: time.Now().AddDate(0, 0, -20), Until: time.Now().AddDate(0, 0, 179)}
	root, err := forge.NewAuthority(nil, key, forge.ECDSASHA256, span)
	if err != nil {
		return nil, nil, err
	}
	span.Name = "Bench Issuing"
	issuer, err := forge.NewAuthority(root, key, forge.ECDSASHA256, span)
	if err != nil {
		return nil, nil, err
	}
	span.Name, span.Names = "tides.tarnholm.example", []string{"tides.tarnholm.example"}
	if span.SPKI, err = forge.PublicInfo(key); err != nil {
		return nil, nil, err
	}
	leaf, err := forge.Issue(issuer, nil, span)
	if err != nil {
		return nil, nil, err
	}
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf, issuer.DER}, PrivateKey: key}}, MinVersion: tls.VersionTLS12,
		CurvePreferences: []tls.CurveID{tls.X25519MLKEM768, tls.X25519, tls.CurveP256, tls.CurveP384}}
	listener, err := net.Listen("tcp4", "0.0.0.0:0")
	if err != nil {
		return nil, nil, err
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			if !conn.RemoteAddr().(*net.TCPAddr).IP.IsLoopback() {
				_ = conn.Close()
				continue
			}
			go func() {
				defer conn.Close()
				_ = tls.Server(conn, config).Handshake()
			}()
		}
	}()
	return listener, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.DER}), nil
}

// auditEstate runs the audit as the client does and returns how many connections it made.
func auditEstate(estate string) (int, error) {
	network, err := vantage.Network("")
	if err != nil {
		return 0, err
	}
	p, err := policy.Builtin(policy.Default)
	if err != nil {
		return 0, err
	}
	plan, err := audit.NewPlan(context.Background(), audit.Request{Targets: []string{estate}})
	if err != nil {
		return 0, err
	}
	result := plan.Run(context.Background(), audit.Options{Prober: probe.New(network, probe.Deadlines{}), Policy: p, At: time.Now(), Parallel: parallel})
	connections := 0
	for _, t := range result.Targets {
		if t.Verdict != judge.Sound {
			return 0, fmt.Errorf("%s is %s: %v", t.Target, t.Verdict, t.Findings)
		}
		for _, o := range t.Facts.(facts.Endpoint).Observations {
			connections += len(o.Connections)
		}
	}
	if len(result.Targets) != endpointCount {
		return 0, fmt.Errorf("%d of %d endpoints were judged", len(result.Targets), endpointCount)
	}
	return connections, nil
}

// bare opens as many connections, sends the same hello on each and reads the answer to the end of its flight.
func bare(connections, port int) error {
	key, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	hello := tlswire.Ordinary(tlswire.TLS13, tlswire.TLS12)
	hello.ServerName, hello.SessionID, hello.Groups = "tides.tarnholm.example", make([]byte, 32), []tlswire.Group{tlswire.X25519}
	hello.Shares = []tlswire.KeyShare{{Group: tlswire.X25519, Data: key.PublicKey().Bytes()}}
	record := hello.Record()
	slots := make(chan struct{}, parallel)
	failures := make(chan error, connections)
	var group sync.WaitGroup
	for i := range connections {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			target := netip.AddrPortFrom(netip.MustParseAddr(address(i%endpointCount)), uint16(port))
			if err := exchange(target, record); err != nil {
				failures <- err
			}
		})
	}
	group.Wait()
	close(failures)
	return <-failures
}

func exchange(target netip.AddrPort, hello []byte) error {
	conn, err := (&net.Dialer{}).DialContext(context.Background(), "tcp", target.String())
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return err
	}
	if _, err := conn.Write(hello); err != nil {
		return err
	}
	var header [5]byte
	body := make([]byte, 1<<14+2048)
	for {
		if _, err := io.ReadFull(conn, header[:]); err != nil {
			return err
		}
		n := int(binary.BigEndian.Uint16(header[3:]))
		if _, err := io.ReadFull(conn, body[:n]); err != nil {
			return err
		}
		// The flight ends with an alert, with ServerHelloDone, or, where the rest is encrypted, with its first record.
		if header[0] == 21 || header[0] == 22 && body[0] == 14 || header[0] == 20 {
			return nil
		}
	}
}
