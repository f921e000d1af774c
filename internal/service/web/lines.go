package web

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"

	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/plain"
	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/service/secrets"
	"nurvik/internal/service/store"

	"github.com/danielgtaylor/huma/v2"
)

// errSecret says that a private key is in what was sent.
var errSecret = errors.New(secretReason)

// lineDefect is something wrong in a line of a part.
type lineDefect struct {
	line  int // from 1, in the part
	field string
	err   error
}

// lineReader makes a record of a line. A private key in it is the defect errSecret.
type lineReader func(line []byte) (store.DeliveryLine, []endpoint.Defect)

// hidden is the defect of a line in which a private key was found.
var hidden = []endpoint.Defect{{Err: errSecret}}

// readLines reads a part line by line and makes records of it. It ends at the
// first private key, which is errSecret, and after maxTold defects. What is not
// in order is never told together with its value.
func readLines(body io.Reader, record lineReader) ([]store.DeliveryLine, []lineDefect, error) {
	var out []store.DeliveryLine
	var defects []lineDefect
	reader := bufio.NewReaderSize(body, 64<<10)
	for number := 1; ; number++ {
		line, err := reader.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, nil, err
		}
		if line = bytes.TrimSpace(line); len(line) > 0 {
			row, wrong := record(line)
			for _, d := range wrong {
				if errors.Is(d.Err, errSecret) {
					return nil, nil, errSecret
				}
				defects = append(defects, lineDefect{number, d.Field, d.Err})
			}
			out = append(out, row)
		}
		if err != nil || len(defects) >= maxTold {
			return out, defects, nil
		}
	}
}

// decode reads one JSON text with fields that are known, and nothing behind it.
func decode(line []byte, into any) []endpoint.Defect {
	decoder := json.NewDecoder(bytes.NewReader(line))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(into)
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &kind): // its text repeats the value
		return []endpoint.Defect{{Field: kind.Field, Err: fmt.Errorf("a value of the type %s is expected", kind.Type)}}
	case err != nil:
		return []endpoint.Defect{{Err: errors.New(
			"the line is no JSON of the kind that is expected, or has a field that " +
				"is not known: is the client of another version?")}}
	case decoder.More():
		return []endpoint.Defect{{Err: errors.New("there is more than one JSON text on the line")}}
	}
	return nil
}

// publicKinds parse what facts may hold as DER: public material alone, and only as what it is said to be.
var publicKinds = map[facts.ItemKind]func([]byte) error{
	facts.Certificate: func(der []byte) error { _, err := pki.ParseCertificate(der); return err },
	facts.Request:     func(der []byte) error { _, err := pki.ParseRequest(der); return err },
	facts.PublicKey:   func(der []byte) error { _, err := pki.ParsePublicKey(der); return err },
	facts.RevocationList: func(der []byte) error {
		_, err := pki.ParseRevocationList(der)
		return err
	},
	facts.Parameters: nil, facts.PrivateKey: nil, facts.SecretKey: nil, facts.Keystore: nil,
}

// fileLine makes a record of the facts of a file.
func fileLine(line []byte) (store.DeliveryLine, []endpoint.Defect) {
	if bytes.Contains(line[:min(len(line), maxSame)], []byte(`"same":`)) {
		return sameLine(line)
	}
	var f facts.File
	if defects := decode(line, &f); len(defects) > 0 {
		if secrets.InJSON(line) {
			return store.DeliveryLine{}, hidden
		}
		return store.DeliveryLine{}, defects
	}
	if holdsSecret(f) {
		return store.DeliveryLine{}, hidden
	}
	var defects []endpoint.Defect
	fail := func(field, format string, args ...any) {
		defects = append(defects, endpoint.Defect{Field: field, Err: fmt.Errorf(format, args...)})
	}
	plain.Clean(&f)
	switch {
	case f.Path == "":
		fail("path", "a file has a path")
	case !facts.Readable(f.Schema):
		fail("schema", "the facts are of a schema that this service does not read, which is %s: use a client of the "+
			"same "+
			"version", facts.Schema)
	}
	for n := range f.Items {
		item := &f.Items[n]
		if item.Kind == facts.Parameters {
			item.DER = nil // there is nothing to judge of them
		}
		place := fmt.Sprintf("items[%d]", n)
		parse, known := publicKinds[item.Kind]
		switch {
		case !known:
			fail(place+".kind", "there is no such kind of material")
		case len(item.DER) > 0 && parse == nil:
			fail(place+".der", "of keys, keystores and parameters only what is public is taken, and no bytes")
		case parse != nil && parse(item.DER) != nil:
			fail(place+".der", "the bytes are no %s", item.Kind)
		case item.Kind == facts.PrivateKey && item.Key == nil:
			fail(place+".key", "a private key has facts")
		case item.Key != nil && len(item.Key.SPKI) > 0 && publicKinds[facts.PublicKey](item.Key.SPKI) != nil:
			fail(place+".key.spki", "the bytes are no public key")
		}
	}
	row, defects := record(f.Path, f, defects)
	sum := sha256.Sum256(line)
	row.Digest = hex.EncodeToString(sum[:])
	return row, defects
}

// maxSame is how long the line of a file that is as it was may be: a path and a digest.
const maxSame = 32 << 10

// sameLine makes a record of the line of a file that has not changed.
func sameLine(line []byte) (store.DeliveryLine, []endpoint.Defect) {
	var f api.SameFile
	if defects := decode(line, &f); len(defects) > 0 {
		if secrets.InJSON(line) {
			return store.DeliveryLine{}, hidden
		}
		return store.DeliveryLine{}, defects
	}
	digest, err := pki.ParseFingerprint(f.Same)
	switch {
	case f.Path == "":
		return store.DeliveryLine{}, []endpoint.Defect{{Field: "path", Err: errors.New("a file has a path")}}
	case err != nil:
		return store.DeliveryLine{}, []endpoint.Defect{{Field: "same",
			Err: errors.New("a digest is the SHA-256 of a line")}}
	}
	return store.DeliveryLine{Key: plain.Text(f.Path), Digest: digest.String()}, nil
}

// holdsSecret looks for private keys in everything but bytes that are what they
// should be, which is public. That would take long, and in a list of many
// megabytes something looks like a key by chance.
func holdsSecret(f facts.File) bool {
	f.Items = slices.Clone(f.Items)
	for i := range f.Items {
		item := &f.Items[i]
		if parse := publicKinds[item.Kind]; parse != nil && parse(item.DER) == nil {
			item.DER = nil
		}
		if item.Key != nil && publicKinds[facts.PublicKey](item.Key.SPKI) == nil {
			key := *item.Key
			key.SPKI, item.Key = nil, &key
		}
	}
	data, err := json.Marshal(f)
	return err != nil || secrets.InJSON(data)
}

// estateLine makes a record of one line of an estate. Whether the stores and
// policies that it names are there is known when all of it is.
func estateLine(line []byte) (store.DeliveryLine, []endpoint.Defect) {
	if secrets.InJSON(line) {
		return store.DeliveryLine{}, hidden
	}
	var l api.EstateLine
	if defects := decode(line, &l); len(defects) > 0 {
		return store.DeliveryLine{}, defects
	}
	switch {
	case l.Endpoint != nil && l.Store == nil && l.Policy == nil:
		defects := l.Endpoint.Settle(endpoint.Known{})
		for i := range defects {
			defects[i].Field = "endpoint." + defects[i].Field
		}
		return record("the endpoint "+l.Endpoint.Endpoint, l, defects)
	case l.Store != nil && l.Endpoint == nil && l.Policy == nil:
		return record("the trust store "+l.Store.Name, l, storeDefects(*l.Store))
	case l.Policy != nil && l.Endpoint == nil && l.Store == nil:
		return record("the policy "+l.Policy.Name, l, namedPolicyDefects(*l.Policy))
	}
	return store.DeliveryLine{}, []endpoint.Defect{{Err: errors.New("a line is a store, a policy or an endpoint")}}
}

func record(key string, value any, defects []endpoint.Defect) (store.DeliveryLine, []endpoint.Defect) {
	data, err := json.Marshal(value)
	if err != nil {
		defects = append(defects, endpoint.Defect{Err: err})
	}
	text := string(data)
	return store.DeliveryLine{Key: plain.Text(key), Payload: &text}, defects
}

func storeDefects(s api.TrustStore) (defects []endpoint.Defect) {
	switch {
	case s.Name == trust.SystemName:
		defects = append(defects, endpoint.Defect{Field: "store.name", Err: errors.New("the name \"system\" is taken")})
	case s.Name == "" || len(s.Name) > 100 || plain.Check(s.Name, false) != nil:
		defects = append(defects, endpoint.Defect{Field: "store.name",
			Err: errors.New("a name has 1 to 100 characters, none of them invisible")})
	case len(s.Anchors) > maxAnchors:
		return []endpoint.Defect{{Field: "store.anchors", Err: fmt.Errorf("a store has at most %d anchors",
			maxAnchors)}}
	}
	for i, a := range s.Anchors {
		if !slices.Contains(anchorKinds, trust.Kind(a.Kind)) {
			defects = append(defects, endpoint.Defect{Field: fmt.Sprintf("store.anchors[%d].kind", i),
				Err: fmt.Errorf("a kind is one of %v", anchorKinds)})
		}
		if _, err := pki.ParseCertificate(a.DER); err != nil {
			defects = append(defects, endpoint.Defect{Field: fmt.Sprintf("store.anchors[%d].der", i), Err: err})
		}
	}
	return defects
}

// anchorKinds are the kinds that an anchor can have.
var anchorKinds = []trust.Kind{trust.Public, trust.Private, trust.Rehearsal}

// maxAnchors is how many anchors a trust store may have.
const maxAnchors = 10_000

func namedPolicyDefects(p api.NamedPolicy) (defects []endpoint.Defect) {
	if slices.Contains(policy.Names(), p.Name) {
		return []endpoint.Defect{{Field: "policy.name", Err: store.ErrBuiltin}}
	}
	if !policyName.MatchString(p.Name) || len(p.Name) > 100 {
		return []endpoint.Defect{{Field: "policy.name",
			Err: errors.New("a name has lower-case letters, digits, dots, " +
				"hyphens and underscores, and begins with a letter or digit")}}
	}
	for _, d := range policyDefects(p.Name, p.Text) {
		defects = append(defects, endpoint.Defect{Field: "policy.text",
			Err: fmt.Errorf("%s: %s", p.Name, messageOf(d))})
	}
	return defects
}

// messageOf is a defect without its place in a request.
func messageOf(err error) string {
	var detail *huma.ErrorDetail
	if errors.As(err, &detail) {
		return detail.Message
	}
	return err.Error()
}
