package ciphers

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/tlswire"
)

// OpenSSL is a build of the library.
type OpenSSL struct {
	Major, Minor int
	Weak         bool // built with weak ciphers: RC4, 3DES, SEED and IDEA
	Level        int  // the security level that it begins with
}

// Debian's OpenSSL 3 begins at security level 2 and has no weak ciphers.
var Debian = OpenSSL{Major: 3, Minor: 0, Level: 2}

// Errors of lists that the library refuses whole.
var (
	ErrNoCipher   = errors.New("no cipher suite is left")
	ErrBadCommand = errors.New("unknown command")
)

// entry is a suite in the list while rules are applied to it.
type entry struct {
	*opensslSuite
	active bool
}

// order is the list that rules work on. Suites that are not active keep a place in
// it, since rules that add some take them in the order of the list.
type order []entry

// add appends the matching suites that are not active.
func (o *order) add(match matcher) {
	o.move(func(e *entry) bool { return !e.active && match(e.opensslSuite) }, true, true)
}

// last moves the matching active suites to the end.
func (o *order) last(match matcher) {
	o.move(func(e *entry) bool { return e.active && match(e.opensslSuite) }, true, true)
}

// remove takes the matching suites out for now: they go to the front, where those that were preferred stay so.
func (o *order) remove(match matcher) {
	o.move(func(e *entry) bool { return e.active && match(e.opensslSuite) }, false, false)
}

// first moves the matching active suites to the front, in their order.
func (o *order) first(match matcher) {
	o.move(func(e *entry) bool { return e.active && match(e.opensslSuite) }, false, true)
}

// move takes those that are chosen to one end, and sets whether they are active.
func (o *order) move(chosen func(*entry) bool, toEnd, active bool) {
	var moved, rest order
	for _, e := range *o {
		if chosen(&e) {
			e.active = active
			moved = append(moved, e)
		} else {
			rest = append(rest, e)
		}
	}
	if toEnd {
		*o = append(rest, moved...)
		return
	}
	*o = append(moved, rest...)
}

// kill takes the matching suites out for good.
func (o *order) kill(match matcher) {
	*o = slices.DeleteFunc(*o, func(e entry) bool { return match(e.opensslSuite) })
}

// byStrength sorts the active suites by the strength of the cipher, the strongest first.
func (o *order) byStrength() {
	var strengths []int
	for _, e := range *o {
		if e.active && !slices.Contains(strengths, e.bits) {
			strengths = append(strengths, e.bits)
		}
	}
	slices.Sort(strengths)
	for _, bits := range slices.Backward(strengths) {
		o.last(func(s *opensslSuite) bool { return s.bits == bits })
	}
}

// matcher says which suites a rule is about.
type matcher func(*opensslSuite) bool

func everything(*opensslSuite) bool { return true }

// basic is the list before any text is read, in the library's own order: forward secrecy and authenticated encryption
// first, stronger ciphers before weaker ones.
func (l OpenSSL) basic() order {
	var o order
	for i := range opensslSuites() {
		if s := &opensslSuites()[i]; l.Weak || !s.weak {
			o = append(o, entry{opensslSuite: s})
		}
	}
	exchange := func(words ...string) matcher {
		return func(s *opensslSuite) bool { return slices.Contains(words, s.exchange) }
	}
	cipher := func(prefix string) matcher {
		return func(s *opensslSuite) bool { return strings.HasPrefix(s.cipher, prefix) }
	}
	aead := func(s *opensslSuite) bool { return s.aead }
	secret := exchange("kDHE", "kECDHE")
	o.add(func(s *opensslSuite) bool { return s.exchange == "kECDHE" && s.authentication == "aECDSA" })
	o.add(exchange("kECDHE"))
	o.remove(exchange("kECDHE"))
	o.add(cipher("AESGCM"))
	o.add(cipher("CHACHA20"))
	o.add(cipher("AES"))
	o.add(everything)
	o.last(func(s *opensslSuite) bool { return s.mac == "MD5" })
	o.last(func(s *opensslSuite) bool { return s.authentication == "aNULL" })
	o.last(exchange("kRSA"))
	o.last(exchange("kPSK"))
	o.last(cipher("RC4"))
	o.byStrength()
	o.first(func(s *opensslSuite) bool { return s.oldest == "TLSv1.2" })
	o.first(aead)
	o.first(secret)
	o.first(func(s *opensslSuite) bool { return aead(s) && secret(s) })
	o.remove(everything)
	return o
}

// List expands a cipher list. Words that the library does not know are skipped by
// it and told in Unknown. The error says why it refuses the list whole.
func (l OpenSSL) List(text string) (Allowed, error) {
	out := Allowed{Level: NoLevel}
	text = text[:min(len(text), 1<<16)]
	o := l.basic()
	rest := text
	if after, ok := strings.CutPrefix(text, "DEFAULT"); ok {
		rest = after
		l.apply(&o, "ALL", &out)
		l.apply(&o, "!COMPLEMENTOFDEFAULT", &out)
		l.apply(&o, "!eNULL", &out)
	}
	rest = beginsWord.Replace(rest)
	for _, word := range strings.FieldsFunc(rest, func(r rune) bool { return strings.ContainsRune(": ;,", r) }) {
		if err := l.apply(&o, word, &out); err != nil {
			return out, err
		}
	}
	for _, e := range o {
		if e.active {
			out.Suites = append(out.Suites, e.suite)
		}
	}
	if len(out.Suites) == 0 {
		return out, ErrNoCipher
	}
	return out, nil
}

// beginsWord parts words that stand without a separator, as in DEFAULT@SECLEVEL=1.
var beginsWord = strings.NewReplacer("@", ":@", "!", ":!")

// apply applies one word of a list.
func (l OpenSSL) apply(o *order, word string, out *Allowed) error {
	operator := byte(0)
	if strings.IndexByte("-+!@", word[0]) >= 0 {
		operator, word = word[0], word[1:]
	}
	if operator == '@' {
		level, isLevel := strings.CutPrefix(word, "SECLEVEL=")
		switch n, err := strconv.Atoi(level); {
		case word == "STRENGTH":
			o.byStrength()
		case isLevel && err == nil && len(level) == 1 && n <= 5:
			out.Level = n
		default:
			return fmt.Errorf("%w @%s", ErrBadCommand, word)
		}
		return nil
	}
	if word == "" {
		return fmt.Errorf("%w: an operator without a word", ErrBadCommand)
	}
	match, known := l.match(word)
	if !known {
		if !past(word, operator) && len(out.Unknown) < most {
			out.Unknown = append(out.Unknown, word)
		}
		return nil
	}
	switch operator {
	case '-':
		o.remove(match)
	case '+':
		o.last(match)
	case '!':
		o.kill(match)
	default:
		o.add(match)
	}
	return nil
}

// match is what a word stands for: parts joined by plus signs must all hold.
func (l OpenSSL) match(word string) (matcher, bool) {
	var all []matcher
	for part := range strings.SplitSeq(word, "+") {
		m, known := l.keyword(part)
		if !known {
			return nil, false
		}
		all = append(all, m)
	}
	return func(s *opensslSuite) bool {
		for _, m := range all {
			if !m(s) {
				return false
			}
		}
		return true
	}, true
}

// keyword is what a single word stands for: a suite by OpenSSL's name for it, or one of the keywords.
func (l OpenSSL) keyword(word string) (matcher, bool) {
	if m, known := opensslWords[word]; known {
		return m, true
	}
	for i := range opensslSuites() {
		s := &opensslSuites()[i]
		if s.name == word {
			if s.weak && !l.Weak {
				return nil, false
			}
			return func(x *opensslSuite) bool { return x.suite == s.suite }, true
		}
	}
	return nil, false
}

// Is reports whether a word is one of OpenSSL's, for messages that suggest another.
func (l OpenSSL) Is(word string) bool {
	_, known := l.match(word)
	return known
}

// Suites13 reads a list of suites of TLS 1.3, which has no keywords.
func (l OpenSSL) Suites13(text string) Allowed {
	out := Allowed{Level: NoLevel, Suites13: []tlswire.Suite{}}
	for _, name := range strings.FieldsFunc(text, func(r rune) bool { return r == ':' }) {
		s, known := tlswire.SuiteNamed(strings.TrimSpace(name))
		switch {
		case known && s >= 0x1301 && s <= 0x1305:
			out.Suites13 = append(out.Suites13, s)
		case len(out.Unknown) < most:
			out.Unknown = append(out.Unknown, name)
		}
	}
	return out
}

// Default13 are the suites of TLS 1.3 where nothing is set.
var Default13 = []tlswire.Suite{0x1302, 0x1303, 0x1301}
