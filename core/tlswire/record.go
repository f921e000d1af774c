package tlswire

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Limits of what is read on one connection.
const (
	maxRecord    = 1<<14 + 2048 // bytes of one record (RFC 5246, 6.2.3)
	maxHandshake = 1 << 18      // bytes of one handshake message: no real chain comes near 256 KiB
	maxRecords   = 512          // records altogether, unless the options say otherwise
	maxWarnings  = 8            // warning alerts that are read past
	// bytes of a cookie or ticket that is sent back: all extensions together have room for 64 KiB
	maxEcho = 1 << 14
)

// NotTLSError says that the answer was no TLS record. Begin holds its first bytes.
type NotTLSError struct{ Begin []byte }

func (e *NotTLSError) Error() string {
	return fmt.Sprintf("the answer begins with %q", e.Begin)
}

// BadMessageError says that TLS records came with contents that cannot be read.
type BadMessageError struct{ Reason string }

func (e *BadMessageError) Error() string { return "its answer cannot be decoded: " + e.Reason }

// NotOfferedError says that the peer chose what was not offered to it.
type NotOfferedError struct{ What string }

func (e *NotOfferedError) Error() string {
	return "its answer cannot be used: it chose " + e.What + ", which was not offered"
}

// TooMuchError says that a limit was reached before the answer ended.
type TooMuchError struct{ Reason string }

func (e *TooMuchError) Error() string { return "it answers without end: " + e.Reason }

// ErrClosed says that the peer closed or reset the connection before it answered.
var ErrClosed = errors.New("the connection was closed without an answer")

// protection encrypts or decrypts the records of one direction.
type protection interface {
	// open returns the real content type and the plaintext.
	open(kind byte, version Version, body []byte) (byte, []byte, error)
	seal(kind byte, version Version, plaintext []byte) (byte, []byte)
}

// records reads and writes the records of one connection.
type records struct {
	stream   io.ReadWriter
	version  Version // of the records that are written
	in, out  protection
	changed  func()             // called when the peer changes its cipher (RFC 5246, 7.1)
	buffer   []byte             // handshake bytes not yet taken
	data     []byte             // application bytes not yet taken
	tickets  [][]byte           // bodies of NewSessionTicket messages
	update   func([]byte) error // heeds a KeyUpdate
	answered bool               // a TLS record was seen
	limit    int                // of records; 0 for maxRecords
	count    int
	warnings int
	warned   *Alert // the last of these
	messages int    // records of other kinds that came
}

// write sends the bytes as records of the kind.
func (r *records) write(kind byte, data []byte) error {
	var out []byte
	for first := true; first || len(data) > 0; first = false {
		part := data[:min(len(data), 1<<14)]
		data = data[len(part):]
		outer, body := kind, part
		if r.out != nil {
			outer, body = r.out.seal(kind, r.version, part)
		}
		out = append(out, outer, byte(r.version>>8), byte(r.version), byte(len(body)>>8), byte(len(body)))
		out = append(out, body...)
	}
	_, err := r.stream.Write(out)
	return err
}

// next returns the next handshake message: its type, its body, and both with the header as sent.
func (r *records) next() (kind byte, body, whole []byte, err error) {
	for {
		if len(r.buffer) >= 4 {
			length := int(r.buffer[1])<<16 | int(r.buffer[2])<<8 | int(r.buffer[3])
			if length > maxHandshake {
				return 0, nil, nil, &TooMuchError{fmt.Sprintf("a handshake message claims %d bytes", length)}
			}
			if len(r.buffer) >= 4+length {
				whole := r.buffer[: 4+length : 4+length]
				r.buffer = r.buffer[4+length:]
				return whole[0], whole[4:], whole, nil
			}
		}
		kind, content, err := r.record()
		switch {
		case err != nil:
			return 0, nil, nil, err
		case kind == contentHandshake:
			r.buffer = append(r.buffer, content...)
		case kind == contentApplication:
			return 0, nil, nil, &BadMessageError{"application data came before the handshake ended"}
		}
	}
}

// read returns application data. Tickets that come meanwhile are kept, and keys changed when the peer says so.
func (r *records) read() ([]byte, error) {
	for {
		kind, content, err := r.record()
		if err != nil || kind == contentApplication && len(content) > 0 {
			return content, err
		}
		if kind == contentHandshake {
			if err := r.after(content); err != nil {
				return nil, err
			}
		}
	}
}

// maxTickets is how many tickets are kept; servers give two or four.
const maxTickets = 16

// after takes in handshake messages that come after the handshake (RFC 8446, 4.6).
func (r *records) after(content []byte) error {
	r.buffer = append(r.buffer, content...)
	for len(r.buffer) >= 4 {
		length := int(r.buffer[1])<<16 | int(r.buffer[2])<<8 | int(r.buffer[3])
		if length > maxHandshake {
			return &TooMuchError{"handshake messages after the handshake"}
		}
		if len(r.buffer) < 4+length {
			break
		}
		kind, body := r.buffer[0], r.buffer[4:4+length]
		r.buffer = r.buffer[4+length:]
		switch {
		case kind == messageNewSessionTicket && len(r.tickets) < maxTickets:
			r.tickets = append(r.tickets, body)
		case kind == messageKeyUpdate && r.update != nil:
			if err := r.update(body); err != nil {
				return err
			}
		}
	}
	return nil
}

// record reads one record. Alerts are errors, but for a few warnings.
func (r *records) record() (kind byte, content []byte, err error) {
	for {
		if r.count++; r.count > cmp.Or(r.limit, maxRecords) {
			return 0, nil, &TooMuchError{fmt.Sprintf("%d records came", r.count-1)}
		}
		var header [5]byte
		n, err := io.ReadFull(r.stream, header[:])
		if n > 0 && !r.answered && !plausible(header[:n]) {
			return 0, nil, &NotTLSError{Begin: append([]byte(nil), header[:n]...)}
		}
		if err != nil {
			return 0, nil, r.readError(err)
		}
		length := int(binary.BigEndian.Uint16(header[3:]))
		if !plausible(header[:]) || length > maxRecord {
			return 0, nil, &BadMessageError{fmt.Sprintf("a record begins with %x", header)}
		}
		if length == 0 && header[0] != contentApplication {
			return 0, nil, &BadMessageError{"a record is empty"}
		}
		r.answered = true
		kind, content = header[0], make([]byte, length)
		if _, err := io.ReadFull(r.stream, content); err != nil {
			return 0, nil, r.readError(err)
		}
		if r.in != nil && kind != contentChangeCipherSpec {
			if kind, content, err = r.in.open(kind, Version(binary.BigEndian.Uint16(header[1:])), content); err != nil {
				return 0, nil, err
			}
		}
		if kind == contentChangeCipherSpec && r.changed != nil {
			r.changed()
			r.changed = nil
		}
		if kind != contentAlert {
			r.messages++
			return kind, content, nil
		}
		if err := r.alert(content); err != nil {
			return 0, nil, err
		}
	}
}

func (r *records) alert(body []byte) error {
	if len(body) != 2 {
		return &BadMessageError{fmt.Sprintf("an alert has %d bytes instead of two", len(body))}
	}
	alert := Alert{body[0], body[1]}
	// unrecognized_name is sent as a warning by servers that go on (RFC 6066, 3).
	if alert.Level == 1 && alert.Description != 0 {
		if r.warnings++; r.warnings > maxWarnings {
			return &TooMuchError{fmt.Sprintf("%d warning alerts came", r.warnings)}
		}
		r.warned = &alert
		return nil
	}
	return &AlertError{alert}
}

func (r *records) readError(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		if r.warned != nil && r.messages == 0 { // it warned, and hung up
			return &AlertError{*r.warned}
		}
		if r.answered {
			return &BadMessageError{"the connection was closed in the middle of the answer"}
		}
		return ErrClosed
	}
	return err
}

// plausible reports whether the bytes can begin a record of SSL 3.0 or later.
func plausible(header []byte) bool {
	if header[0] < contentChangeCipherSpec || header[0] > contentApplication {
		return false
	}
	return len(header) < 2 || header[1] == 3
}
