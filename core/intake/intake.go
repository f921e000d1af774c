// Package intake turns bytes and paths into material. What a file is, its
// contents decide, never its name.
package intake

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// MaxFileSize is the most that is read of one file, in bytes: no real bundle
// comes near, and a hostile one must not fill the memory.
const MaxFileSize = 64 << 20

// Results that a caller decides on.
var (
	// ErrNothing: the file is empty or nothing in it was recognised.
	ErrNothing = errors.New("nothing was recognised in it")
	// ErrTooLarge: the file passes MaxFileSize.
	ErrTooLarge = errors.New("it is larger than 64 MiB")
)

// ReadFile reads the file at the path. The error wraps ErrNothing, ErrTooLarge
// or what the system said, and names the path.
func ReadFile(path string) (facts.File, error) {
	file, err := os.Open(path)
	if err != nil {
		return facts.File{}, err
	}
	defer file.Close()
	size := 0
	if info, err := file.Stat(); err == nil && info.Size() <= MaxFileSize {
		size = int(info.Size())
	}
	return read(path, file, size)
}

// Read reads a stream under the name that reports should give it.
func Read(name string, stream io.Reader) (facts.File, error) { return read(name, stream, 0) }

// read reads a stream of about the expected size.
func read(name string, stream io.Reader, expected int) (facts.File, error) {
	buffer := bytes.NewBuffer(make([]byte, 0, expected+bytes.MinRead))
	_, err := buffer.ReadFrom(io.LimitReader(stream, MaxFileSize+1))
	data := buffer.Bytes()
	if err != nil {
		return facts.File{}, fmt.Errorf("read %s: %w", name, err)
	}
	if len(data) > MaxFileSize {
		return facts.File{}, fmt.Errorf("%s: %w", name, ErrTooLarge)
	}
	file := Recognise(data)
	file.Path = name
	if len(file.Certificates)+len(file.Damaged)+len(file.Others) == 0 {
		return file, fmt.Errorf("%s: %w; certificates are read as PEM or DER", name, ErrNothing)
	}
	return file, nil
}

// Recognise finds the material in the bytes: PEM blocks anywhere, or one or
// more DER certificates one after the other.
func Recognise(data []byte) facts.File {
	file := facts.File{Schema: facts.Schema, Certificates: []facts.Located{}}
	if len(data) > 1 && data[0] == 0x30 {
		recogniseDER(data, &file)
		return file
	}
	recognisePEM(data, &file)
	return file
}

func recogniseDER(data []byte, file *facts.File) {
	for offset := 0; offset < len(data); {
		c, err := pki.ParseCertificate(data[offset:])
		if err != nil {
			// Other DER, such as a key, is no damaged certificate: nothing is claimed of it.
			return
		}
		file.Certificates = append(file.Certificates, facts.Located{DER: c.Raw, Offset: offset})
		offset += len(c.Raw)
	}
}

var (
	beginMark = []byte("-----BEGIN ")
	endMark   = []byte("-----END ")
	dashes    = []byte("-----")
)

// certificateLabels are the labels under which certificates are found (RFC 7468, section 5.1, and older use).
var certificateLabels = map[string]bool{"CERTIFICATE": true, "X509 CERTIFICATE": true, "TRUSTED CERTIFICATE": true}

// recognisePEM reads each block on its own, so that a damaged one hides no other.
func recognisePEM(data []byte, file *facts.File) {
	line, counted := 1, 0
	for position := 0; ; {
		start := bytes.Index(data[position:], beginMark)
		if start < 0 {
			return
		}
		start += position
		line += bytes.Count(data[counted:start], []byte("\n"))
		counted = start
		labelEnd := bytes.Index(data[start+len(beginMark):], dashes)
		if labelEnd < 0 || labelEnd > 64 {
			position = start + len(beginMark)
			continue
		}
		label := string(data[start+len(beginMark) : start+len(beginMark)+labelEnd])
		body := start + len(beginMark) + labelEnd + len(dashes)
		end, next := blockEnd(data, body)
		position = next
		if !certificateLabels[label] {
			file.Others = append(file.Others, facts.OtherBlock{Label: label, Line: line})
			continue
		}
		der, reason := decodeBody(data[body:end], next > end)
		if reason == "" {
			_, err := pki.ParseCertificate(der)
			if err == nil {
				file.Certificates = append(file.Certificates, facts.Located{DER: der, Line: line, Offset: start})
				continue
			}
			reason = err.Error()
		}
		file.Damaged = append(file.Damaged, facts.Damage{Line: line, Offset: start, Reason: reason})
	}
}

// blockEnd returns where the block's text ends and where to read on. The two
// are equal when the block has no end line of its own.
func blockEnd(data []byte, body int) (end, next int) {
	end = len(data)
	if i := bytes.Index(data[body:], endMark); i >= 0 {
		end = body + i
		next = end + len(endMark)
	}
	if i := bytes.Index(data[body:end], beginMark); i >= 0 { // the next block begins first
		return body + i, body + i
	}
	if next == 0 {
		return end, end
	}
	return end, next
}

func decodeBody(text []byte, ended bool) (der []byte, reason string) {
	if !ended {
		return nil, "the block has no END line: it is cut off"
	}
	der = make([]byte, base64.StdEncoding.DecodedLen(len(text)))
	n, err := base64.StdEncoding.Decode(der, text) // passes over line ends, but over no other space
	if err != nil {
		n, err = base64.StdEncoding.Decode(der, bytes.Join(bytes.Fields(text), nil))
	}
	if err != nil {
		return nil, fmt.Sprintf("the base64 is damaged: %v", err)
	}
	return der[:n], ""
}
