package probe

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"net/textproto"
	"strconv"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/tlswire"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"
)

// maxPage is how much of an answer is read: the headers are all that counts.
const maxPage = 64 << 10

// askWeb asks the web server for its front page over the session. A server that speaks no HTTP never answers, so the
// visit goes on meanwhile where the host has room for another connection.
func askWeb(ctx context.Context, v *visit, conn *countingConn, s *tlswire.Session) {
	host, leave, err := v.prober.gate.enter(ctx, v.address.Addr(), false)
	if err != nil || host == nil {
		v.observation.HTTP = v.front(conn, s)
		return
	}
	x := &aside{conn: conn, record: v.record, done: make(chan struct{})}
	v.aside = x
	go func() {
		defer close(x.done)
		defer leave()
		// what a defect leaves is no answer
		_ = v.prober.network.Report.Do(v.address.String(), func() { x.http = v.front(conn, s) })
		_ = s.CloseNotify() // whoever has hung up needs no goodbye
		v.end(conn, x.record, nil)
		_ = conn.Close()
	}()
}

// front asks for the front page; nil where the application is another, or wants something first.
func (v *visit) front(conn *countingConn, s *tlswire.Session) *facts.HTTP {
	conn.allow(v.prober.limits.Web)
	var response page
	var err error
	if s.Protocol() == "h2" {
		response, err = getTwo(s, v.call.ServerName, v.observation.Address)
	} else {
		response, err = get(s, v.call.ServerName, "/", v.observation.Address)
	}
	if err != nil {
		return nil
	}
	return &facts.HTTP{Status: response.status,
		StrictTransportSecurity: pki.Printable(response.header.Get("Strict-Transport-Security"))}
}

// maxFrames is how many frames of HTTP/2 are read before the answer's headers: settings and the like.
const maxFrames = 32

// getTwo is get in HTTP/2 (RFC 9113).
func getTwo(stream io.ReadWriter, host string, address netip.AddrPort) (page, error) {
	if host == "" {
		host = address.Addr().String()
	}
	var block bytes.Buffer
	headers := hpack.NewEncoder(&block)
	for _, f := range [][2]string{{":method", "GET"}, {":scheme", "https"}, {":authority", host}, {":path", "/"},
		{"user-agent", "nurvik"}, {"accept", "*/*"}} {
		_ = headers.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]}) // a buffer takes everything
	}
	var out bytes.Buffer // everything at once, so that a server which hangs up meanwhile has the whole question
	out.WriteString(http2.ClientPreface)
	ask := http2.NewFramer(&out, nil)
	_ = ask.WriteSettings(http2.Setting{ID: http2.SettingEnablePush})
	_ = ask.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block.Bytes(), EndStream: true,
		EndHeaders: true})
	if _, err := stream.Write(out.Bytes()); err != nil {
		return page{}, err
	}
	answer := http2.NewFramer(stream, io.LimitReader(stream, maxPage))
	answer.ReadMetaHeaders, answer.MaxHeaderListSize = hpack.NewDecoder(4096, nil), maxPage
	for range maxFrames {
		frame, err := answer.ReadFrame()
		if err != nil {
			return page{}, err
		}
		switch f := frame.(type) {
		case *http2.SettingsFrame:
			if !f.IsAck() {
				if err := answer.WriteSettingsAck(); err != nil {
					return page{}, err
				}
			}
		case *http2.MetaHeadersFrame:
			status, err := strconv.Atoi(f.PseudoValue("status"))
			if err != nil || status < 200 && status >= 100 { // more is to come
				continue
			}
			header := textproto.MIMEHeader{}
			for _, x := range f.RegularFields() {
				header.Add(x.Name, x.Value)
			}
			_ = answer.WriteGoAway(0, http2.ErrCodeNo, nil) // whoever has hung up needs no goodbye
			return page{status, header}, nil
		case *http2.GoAwayFrame, *http2.RSTStreamFrame:
			return page{}, fmt.Errorf("HTTP/2 was ended: %v", frame)
		}
	}
	return page{}, fmt.Errorf("no headers in %d frames", maxFrames)
}

// page is the head of an answer.
type page struct {
	status int
	header textproto.MIMEHeader
}

// get sends a request for a page and reads the head of the answer (RFC 9112, 4 and 5).
func get(stream io.ReadWriter, host, path string, address netip.AddrPort) (page, error) {
	if host == "" {
		host = address.Addr().String()
	}
	var request bytes.Buffer
	fmt.Fprintf(&request,
		"GET %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: nurvik\r\nAccept: */*\r\nConnection: close\r\n\r\n", path, host)
	if _, err := stream.Write(request.Bytes()); err != nil {
		return page{}, err
	}
	reader := textproto.NewReader(bufio.NewReader(io.LimitReader(stream, maxPage)))
	line, err := reader.ReadLine()
	if err != nil {
		return page{}, err
	}
	protocol, rest, _ := strings.Cut(line, " ")
	code, _, _ := strings.Cut(rest, " ")
	status, err := strconv.Atoi(code)
	if !strings.HasPrefix(protocol, "HTTP/1.") || err != nil || status < 100 || status > 999 {
		return page{}, fmt.Errorf("no status line of HTTP: %q", line)
	}
	header, err := reader.ReadMIMEHeader()
	return page{status, header}, err
}

// askPlain looks where the plain port leads.
func askPlain(ctx context.Context, v *visit) {
	if v.call.Plain == 0 || !v.call.Web {
		return
	}
	at := netip.AddrPortFrom(v.observation.Address.Addr(), v.call.Plain)
	fact := &facts.Plain{Address: at.String()}
	if v.observation.HTTP == nil {
		v.observation.HTTP = &facts.HTTP{}
	}
	v.observation.HTTP.Plain = fact
	conn, record, err := v.connectTo(ctx, at, facts.Because(facts.ForPlainHTTP))
	if errors.Is(err, errNoConnection) {
		fact.Failure = facts.Because(facts.NotTried)
		return
	}
	if err != nil {
		fact.Failure = facts.Because(facts.NothingAnswers)
		return
	}
	defer conn.Close()
	response, err := get(conn, v.call.ServerName, "/", at)
	v.close(conn, record, err)
	if err != nil {
		fact.Failure = facts.Because(facts.NoHTTP)
		return
	}
	fact.Status, fact.Location = response.status, pki.Printable(response.header.Get("Location"))
}
