package pki

import "errors"

// Limits of Definite: deeper than any real structure, low enough for the stack.
const maxBERDepth = 32

var errBER = errors.New("the structure is not BER that can be followed")

// Definite rewrites BER (X.690, 8) with indefinite lengths and strings in
// pieces, as some programs write containers, into definite lengths and whole
// strings. DER comes back unchanged. Bytes behind the first element are dropped.
func Definite(data []byte) ([]byte, error) {
	if !indefinite(data) {
		return data, nil
	}
	out, _, err := definite(data, 0)
	return out, err
}

// Rewritten is Definite for structures that begin in definite form and may hold
// the indefinite one further down. What cannot be followed comes back as it is.
func Rewritten(data []byte) []byte {
	out, _, err := definite(data, 0)
	if err != nil {
		return data
	}
	return out
}

// indefinite looks whether the first elements use the indefinite form at all;
// a container that does begins with it.
func indefinite(data []byte) bool {
	return len(data) > 1 && data[1] == 0x80
}

func definite(data []byte, depth int) (out, rest []byte, err error) {
	if len(data) < 2 || depth > maxBERDepth || data[0]&0x1f == 0x1f {
		return nil, nil, errBER
	}
	tag, length, header := data[0], int(data[1]), 2
	open := length == 0x80
	if !open && length > 0x80 {
		count := length & 0x7f
		if count > 4 || len(data) < 2+count {
			return nil, nil, errBER
		}
		length = 0
		for _, b := range data[2 : 2+count] {
			length = length<<8 | int(b)
		}
		header += count
	}
	body := data[header:]
	if !open {
		if length < 0 || length > len(body) {
			return nil, nil, errBER
		}
		body, rest = body[:length], body[length:]
	}
	if tag&constructed == 0 {
		if open {
			return nil, nil, errBER
		}
		return encode(tag, body), rest, nil
	}
	joined := tag == tagOctetString|constructed
	var content []byte
	for open || len(body) > 0 {
		if open && len(body) >= 2 && body[0] == 0 && body[1] == 0 {
			rest, open, body = body[2:], false, nil
			break
		}
		var part []byte
		if part, body, err = definite(body, depth+1); err != nil {
			return nil, nil, err
		}
		if joined {
			part = contents(part)
		}
		content = append(content, part...)
	}
	if joined {
		tag = tagOctetString
	}
	return encode(tag, content), rest, nil
}

// contents strips identifier and length of an element that encode wrote.
func contents(der []byte) []byte {
	if der[1] < 0x80 {
		return der[2:]
	}
	return der[2+int(der[1]&0x7f):]
}

func encode(tag byte, content []byte) []byte {
	out := []byte{tag}
	switch n := len(content); {
	case n < 0x80:
		out = append(out, byte(n))
	case n < 0x100:
		out = append(out, 0x81, byte(n))
	case n < 0x10000:
		out = append(out, 0x82, byte(n>>8), byte(n))
	case n < 0x1000000:
		out = append(out, 0x83, byte(n>>16), byte(n>>8), byte(n))
	default:
		out = append(out, 0x84, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	return append(out, content...)
}
