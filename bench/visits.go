package main

import (
	"context"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"encoding/binary"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/limits"
	"nurvik/core/probe"
	"nurvik/core/tlswire"
	"nurvik/internal/audit"
	"nurvik/internal/cli"
	"nurvik/internal/vantage"
)

// visitTask is what the children of a figure for visits do.
type visitTask struct {
	Estate      string
	Endpoints   int
	Port        int
	Connections int // that the visits made, for the bare program to make as many
}

// visitCase is one figure for visits.
type visitCase struct {
	endpoints, rounds int
	delay             time.Duration // before an endpoint answers
	nginx             bool          // a real server answers, where it is installed
}

var visitCases = []visitCase{{1000, 5, 0, false}, {2000, 3, 50 * time.Millisecond, false}, {1000, 3, 0, true}}

// The limits of the figures for visits.
const (
	visitWallLimit       = 1.2
	visitTimeLimit       = 1.6 // of processor time
	visitMemoryLimit     = 220_000_000
	visitConnectionLimit = 21 // to an endpoint with an EC key; one with an RSA key costs 20, which a test holds
)

// fewest is how many connections the endpoint of these figures costs at least, when none is asked anything twice: the
// first contact, TLS 1.2 and what is older, the nine suites with a refusal for each version instead of the two that
// were
// met already, a refusal of further groups, two orders, the fallback signal, other keys and other names.
const fewest = 1 + 2 + 9 + 1 + 2 + 1 + 1 + 1

// visitRows audit loopback endpoints beside a bare program that opens as many
// connections, sends one fixed hello on each and only reads. The endpoints are
// served by this process, both programs run in processes of their own.
func visitRows(directory string, out table.Writer) (missed bool, err error) {
	served, err := endpoints()
	if err != nil {
		return false, err
	}
	defer served.Close()
	row := func(name, ours, floor, ratio, limit string, met bool) {
		out.AppendRow(table.Row{name, ours, floor, ratio, limit, word(met, &missed)})
	}
	for _, c := range visitCases {
		task := visitTask{Estate: filepath.Join(directory, fmt.Sprintf("estate-%d.yaml", c.endpoints)),
			Endpoints: c.endpoints, Port: served.Addr().(*net.TCPAddr).Port}
		if c.nginx {
			if _, err := os.Stat(nginxProgram); err != nil {
				continue
			}
			port, stop, err := serveNginx(directory, served.chain, served.key)
			if err != nil {
				return missed, err
			}
			defer stop()
			task.Port = port
		}
		if err := served.writeEstate(task); err != nil {
			return missed, err
		}
		served.delay.Store(int64(c.delay))
		served.most = 0
		if task.Connections, err = visitChild("visit", task); err != nil {
			return missed, err
		}
		inFlight := served.most
		processor := [2]time.Duration{}
		run := func(name string, side int) func() error {
			return func() error {
				before := spent[name]
				_, err := visitChild(name, task)
				processor[side] = spent[name] - before
				return err
			}
		}
		ours, floor, err := measure(figure{ours: run("visit", 0), floor: run("bare", 1), rounds: c.rounds})
		if err != nil {
			return missed, err
		}
		name := fmt.Sprintf("audit %d loopback endpoints with %d connections each", c.endpoints,
			task.Connections/c.endpoints)
		if c.nginx {
			name = fmt.Sprintf("audit nginx at %d addresses with %d connections each", c.endpoints,
				task.Connections/c.endpoints)
		}
		if c.delay > 0 {
			name += fmt.Sprintf(", each answering after %s", c.delay)
		}
		ratio := float64(ours) / float64(floor)
		row(name+": wall time, against as many bare connections", ours.Round(time.Millisecond).String(),
			floor.Round(time.Millisecond).String(), fmt.Sprintf("%.2f", ratio), fmt.Sprintf("%.2f", visitWallLimit),
			ratio <= visitWallLimit)
		each := func(d time.Duration) string {
			return (d / time.Duration(task.Connections)).Round(time.Microsecond).String()
		}
		ratio = float64(processor[0]) / float64(processor[1])
		row("the same: own processor time a connection", each(processor[0]), each(processor[1]),
			fmt.Sprintf("%.2f", ratio), fmt.Sprintf("%.2f", visitTimeLimit), ratio <= visitTimeLimit)
		row("the same: memory", fmt.Sprintf("%d MB", most["visit"]/1_000_000), "", "",
			fmt.Sprintf("%d MB", visitMemoryLimit/1_000_000), most["visit"] <= visitMemoryLimit)
		switch {
		case c.nginx:
		case c.delay > 0:
			row("the same: endpoints in flight at once", fmt.Sprint(inFlight), "", "", fmt.Sprintf("%d", c.endpoints),
				inFlight >= c.endpoints)
		default:
			each := task.Connections / c.endpoints
			row("connections to a typical endpoint, six suites of TLS 1.2 and three of TLS 1.3", fmt.Sprint(each),
				fmt.Sprint(fewest), "", fmt.Sprint(visitConnectionLimit), each <= visitConnectionLimit)
		}
	}
	return missed, nil
}

// visitChild runs one side in a process of its own and returns the connections that it made.
func visitChild(name string, task visitTask) (int, error) {
	path := task.Estate + ".json"
	data, err := json.Marshal(task)
	if err != nil {
		return 0, err
	}
	if err := os.WriteFile(path, data, 0o600); err != nil {
		return 0, err
	}
	if err := child(name, path); err != nil {
		return 0, err
	}
	task, err = readTask(path)
	return task.Connections, err
}

func readTask(path string) (task visitTask, err error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return task, err
	}
	return task, json.Unmarshal(data, &task)
}

// visitAll audits as the client does, and writes how many connections that took.
func visitAll(path string) error {
	cli.LimitMemory()
	task, err := readTask(path)
	if err != nil {
		return err
	}
	if task.Connections, err = auditEstate(task); err != nil {
		return err
	}
	data, err := json.Marshal(task)
	if err != nil {
		return err
	}
	return os.WriteFile(path, data, 0o600)
}

// bareAll makes as many bare connections.
func bareAll(path string) error {
	task, err := readTask(path)
	if err != nil {
		return err
	}
	return bare(task)
}

func address(i int) string { return fmt.Sprintf("127.31.%d.%d", i/250, 1+i%250) }

// quay serves TLS 1.2 and 1.3 on every loopback address.
type quay struct {
	net.Listener
	anchor []byte   // PEM
	chain  [][]byte // of every endpoint
	key    *ecdsa.PrivateKey
	delay  atomic.Int64 // before an answer, in nanoseconds
	mutex  sync.Mutex
	open   map[string]int // connections, by endpoint
	most   int            // endpoints with open connections at once
}

// watch counts a connection to the endpoint, and forgets it with -1.
func (q *quay) watch(endpoint string, change int) {
	q.mutex.Lock()
	defer q.mutex.Unlock()
	if q.open[endpoint] += change; q.open[endpoint] == 0 {
		delete(q.open, endpoint)
	}
	q.most = max(q.most, len(q.open))
}

// writeEstate writes the estate file of a task.
func (q *quay) writeEstate(task visitTask) error {
	var text strings.Builder
	text.WriteString("stores: {bench: {kind: public, path: bench.pem}}\ndefaults: {trust: [bench]}\nendpoints:\n")
	for i := range task.Endpoints {
		fmt.Fprintf(&text,
			"  - {endpoint: tides-%d.tarnholm.example, names: [tides.tarnholm.example], visit-at: ['%s:%d']}\n", i,
			address(i), task.Port)
	}
	return errors.Join(os.WriteFile(task.Estate, []byte(text.String()), 0o600),
		os.WriteFile(filepath.Join(filepath.Dir(task.Estate), "bench.pem"), q.anchor, 0o600))
}

// serve answers one connection.
func (q *quay) serve(conn net.Conn, config *tls.Config) {
	defer conn.Close()
	endpoint := conn.LocalAddr().String()
	q.watch(endpoint, 1)
	defer q.watch(endpoint, -1)
	time.Sleep(time.Duration(q.delay.Load()))
	_ = tls.Server(conn, config).Handshake()
}

func endpoints() (*quay, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	span := forge.Template{Name: "Bench Root", From: time.Now().AddDate(0, 0, -20),
		Until: time.Now().AddDate(0, 0, 179)}
	root, err := forge.NewAuthority(nil, key, forge.ECDSASHA256, span)
	if err != nil {
		return nil, err
	}
	span.Name = "Bench Issuing"
	issuer, err := forge.NewAuthority(root, key, forge.ECDSASHA256, span)
	if err != nil {
		return nil, err
	}
	span.Name, span.Names = "tides.tarnholm.example", []string{"tides.tarnholm.example"}
	if span.SPKI, err = forge.PublicInfo(key); err != nil {
		return nil, err
	}
	leaf, err := forge.Issue(issuer, nil, span)
	if err != nil {
		return nil, err
	}
	config := &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf, issuer.DER}, PrivateKey: key}},
		MinVersion:       tls.VersionTLS12,
		CipherSuites:     []uint16{0xc02b, 0xc02c, 0xcca9, 0xc023, 0xc009, 0xc00a},
		CurvePreferences: []tls.CurveID{tls.X25519MLKEM768, tls.X25519, tls.CurveP256, tls.CurveP384}}
	listener, err := net.Listen("tcp4", "0.0.0.0:0")
	if err != nil {
		return nil, err
	}
	q := &quay{Listener: listener, open: map[string]int{}, chain: [][]byte{leaf, issuer.DER}, key: key,
		anchor: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.DER})}
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
			go q.serve(conn, config)
		}
	}()
	return q, nil
}

// auditEstate runs the audit as the client does and returns how many connections it made.
func auditEstate(task visitTask) (int, error) {
	network, err := vantage.Network(vantage.NameServer{})
	if err != nil {
		return 0, err
	}
	plan, err := audit.NewPlan(context.Background(), audit.Request{Targets: []string{task.Estate}})
	if err != nil {
		return 0, err
	}
	result := plan.Run(context.Background(), audit.Options{Prober: probe.New(network, vantage.Afford(limits.Limits{})),
		At: time.Now()})
	connections := 0
	for _, t := range result.Targets {
		if t.Verdict != judge.Sound {
			return 0, fmt.Errorf("%s is %s: %v", t.Target, t.Verdict, t.Findings)
		}
		for _, o := range t.Facts.(facts.Endpoint).Observations {
			connections += len(o.Connections)
		}
	}
	if len(result.Targets) != task.Endpoints {
		return 0, fmt.Errorf("%d of %d endpoints were judged", len(result.Targets), task.Endpoints)
	}
	return connections, nil
}

// bare opens as many connections: one whole handshake with each endpoint, and on the others the same hello, whose
// answer is read to the end of its flight.
func bare(task visitTask) error {
	key, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	hello := tlswire.Ordinary(tlswire.TLS13, tlswire.TLS12)
	hello.ServerName, hello.SessionID, hello.Groups = "tides.tarnholm.example", make([]byte, 32),
		[]tlswire.Group{tlswire.X25519}
	hello.Shares = []tlswire.KeyShare{{Group: tlswire.X25519, Data: key.PublicKey().Bytes()}}
	record := hello.Record()
	slots := make(chan struct{}, limits.Defaults.AtOnce)
	failures := make(chan error, task.Connections)
	config := &tls.Config{InsecureSkipVerify: true, ServerName: hello.ServerName} // nothing is judged here
	var group sync.WaitGroup
	for i := range task.Connections {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			target := netip.AddrPortFrom(netip.MustParseAddr(address(i%task.Endpoints)), uint16(task.Port))
			err := error(nil)
			if i < task.Endpoints {
				err = handshake(target, config)
			} else {
				err = exchange(target, record)
			}
			if err != nil {
				failures <- err
			}
		})
	}
	group.Wait()
	close(failures)
	return <-failures
}

// handshake makes one whole handshake with the standard library.
func handshake(target netip.AddrPort, config *tls.Config) error {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 10 * time.Second}, "tcp", target.String(), config)
	if err != nil {
		return err
	}
	return conn.Close()
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
