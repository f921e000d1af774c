package probe

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net/netip"
	"net/textproto"
	"strconv"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// maxPage is how much of an answer is read: the headers are all that counts.
const maxPage = 64 << 10

// askWeb asks the web server for its front page over the session.
func askWeb(v *visit, session io.ReadWriter) {
	response, err := get(session, v.call.ServerName, v.observation.Address)
	if err != nil {
		return // the application is another, or wants something first
	}
	v.observation.HTTP = &facts.HTTP{Status: response.status,
		StrictTransportSecurity: pki.Printable(response.header.Get("Strict-Transport-Security"))}
}

// page is the head of an answer.
type page struct {
	status int
	header textproto.MIMEHeader
}

// get sends a request for the front page and reads the head of the answer (RFC 9112, 4 and 5).
func get(stream io.ReadWriter, host string, address netip.AddrPort) (page, error) {
	if host == "" {
		host = address.Addr().String()
	}
	var request bytes.Buffer
	fmt.Fprintf(&request,
		"GET / HTTP/1.1\r\nHost: %s\r\nUser-Agent: nurvik\r\nAccept: */*\r\nConnection: close\r\n\r\n", host)
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
	conn, record, ok := v.connectTo(ctx, at, facts.Because(facts.ForPlainHTTP))
	if !ok {
		fact.Failure = facts.Because(facts.NothingAnswers)
		return
	}
	defer conn.Close()
	response, err := get(conn, v.call.ServerName, at)
	v.close(conn, record, err)
	if err != nil {
		fact.Failure = facts.Because(facts.NoHTTP)
		return
	}
	fact.Status, fact.Location = response.status, pki.Printable(response.header.Get("Location"))
}
