package tlswire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Limits of what is read on one connection before a flight must have ended.
const (
	maxRecord    = 1<<14 + 2048 // bytes of one record (RFC 5246, 6.2.3)
	maxHandshake = 1 << 18      // bytes of one handshake message: no real chain comes near 256 KiB
	maxRecords   = 256          // records before the wanted message
	maxWarnings  = 8            // warning alerts that are read past
)

// NotTLSError says that the answer was no TLS record. Begin holds its first bytes.
type NotTLSError struct{ Begin []byte }

func (e *NotTLSError) Error() string {
	return fmt.Sprintf("the answer begins with %q", e.Begin)
}

// BadMessageError says that TLS records came with contents that cannot be read.
type BadMessageError struct{ Reason string }

func (e *BadMessageError) Error() string { return "its answer cannot be decoded: " + e.Reason }

// ErrClosed says that the peer closed or reset the connection before it answered.
var ErrClosed = errors.New("the connection was closed without an answer")

// messageReader takes handshake messages out of records.
type messageReader struct {
	stream   io.Reader
	buffer   []byte // handshake bytes not yet taken
	answered bool   // a TLS record was seen
	records  int
	warnings int
}

// next returns the type and body of the next handshake message.
func (r *messageReader) next() (byte, []byte, error) {
	for {
		if len(r.buffer) >= 4 {
			length := int(r.buffer[1])<<16 | int(r.buffer[2])<<8 | int(r.buffer[3])
			if length > maxHandshake {
				return 0, nil, &BadMessageError{fmt.Sprintf("a handshake message claims %d bytes", length)}
			}
			if len(r.buffer) >= 4+length {
				kind, body := r.buffer[0], r.buffer[4:4+length]
				r.buffer = r.buffer[4+length:]
				return kind, body, nil
			}
		}
		if err := r.fill(); err != nil {
			return 0, nil, err
		}
	}
}

// fill reads one record and keeps its handshake bytes.
func (r *messageReader) fill() error {
	if r.records++; r.records > maxRecords {
		return &BadMessageError{fmt.Sprintf("%d records came and none ended the answer", maxRecords)}
	}
	var header [5]byte
	n, err := io.ReadFull(r.stream, header[:])
	if n > 0 && !r.answered && !plausible(header[:n]) {
		return &NotTLSError{Begin: append([]byte(nil), header[:n]...)}
	}
	if err != nil {
		return r.readError(err)
	}
	length := int(binary.BigEndian.Uint16(header[3:]))
	if !plausible(header[:]) || length > maxRecord || length == 0 {
		return &BadMessageError{fmt.Sprintf("a record begins with %x", header)}
	}
	r.answered = true
	body := make([]byte, length)
	if _, err := io.ReadFull(r.stream, body); err != nil {
		return r.readError(err)
	}
	switch header[0] {
	case contentHandshake:
		r.buffer = append(r.buffer, body...)
	case contentAlert:
		return r.alert(body)
	case contentChangeCipherSpec: // may follow a TLS 1.3 ServerHello (RFC 8446, D.4)
	default:
		return &BadMessageError{"application data came before the handshake ended"}
	}
	return nil
}

func (r *messageReader) alert(body []byte) error {
	if len(body) != 2 {
		return &BadMessageError{fmt.Sprintf("an alert has %d bytes instead of two", len(body))}
	}
	alert := Alert{body[0], body[1]}
	// unrecognized_name is sent as a warning by servers that go on (RFC 6066, 3).
	if alert.Level == 1 && alert.Description != 0 && r.warnings < maxWarnings {
		r.warnings++
		return nil
	}
	return &AlertError{alert}
}

func (r *messageReader) readError(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
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
