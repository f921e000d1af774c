package serverconf

import (
	"path/filepath"
	"regexp"
	"strings"

	"nurvik/core/facts"
)

var lighttpd = Server{Name: "lighttpd", Form: "%s = %q", Serves: []string{"https"}, Shape: Bundle,
	Reload: "systemctl reload lighttpd", Check: "lighttpd -tt -f /etc/lighttpd/lighttpd.conf",
	Files: []FileDirective{{Part: PartBundle, Name: "ssl.pemfile"}, {Part: PartKey, Name: "ssl.privkey"}},
	Main:  []string{"/etc/lighttpd/lighttpd.conf"}, Packages: []string{"lighttpd"},
	Recognise: recogniseLighttpd, read: readLighttpd,
	TellVersions: func(v Wanted) (Told, bool) {
		return Told{Directive: "ssl.openssl.ssl-conf-cmd", Value: v.pick(`("MinProtocol" => "TLSv1.2")`,
			`("MinProtocol" => "TLSv1.2", "MaxProtocol" => "TLSv1.2")`, `("MinProtocol" => "TLSv1.3")`)}, true
	}}

var lighttpdSetting = regexp.MustCompile(`(?m)^\s*(server\.(modules|document-root|port)|ssl\.(engine|pemfile)|\$SERVER\["socket"\])`)

func recogniseLighttpd(path, text string) Likeness {
	switch {
	case !lighttpdSetting.MatchString(text):
		return IsOther
	case strings.Contains(text, "server.document-root") || filepath.Base(path) == "lighttpd.conf":
		return IsMain
	}
	return IsFragment
}

// lighttpdReader reads one configuration.
type lighttpdReader struct {
	*reading
	main      string
	variables map[string]string
	top       *lighttpdBlock
}

// lighttpdBlock is a condition with what holds where it is met; the first has none.
type lighttpdBlock struct {
	field, operator, wanted string
	facts.Line
	last     int
	settings map[string]lighttpdSet
	blocks   []*lighttpdBlock
}

type lighttpdSet struct {
	value
	name, file string
}

func (s lighttpdSet) setting(text string) facts.Setting {
	return facts.Setting{Directive: s.name, Value: text, Line: facts.Line{File: s.file, Line: s.line}}
}

func readLighttpd(r *reading, path string) {
	l := &lighttpdReader{reading: r, main: path, variables: map[string]string{},
		top: &lighttpdBlock{Line: facts.Line{File: path}, settings: map[string]lighttpdSet{}}}
	r.user = "root"
	l.file(path, facts.Line{File: path}, l.top)
	l.sites()
}

func (l *lighttpdReader) file(path string, from facts.Line, into *lighttpdBlock) {
	l.within(path, from, func(text string) {
		tokens := l.tokens(path, text, "#", "=>", "+=", ":=", "==", "!=", "=~", "!~", "=^", "=$")
		at := 0
		l.block(path, tokens, &at, into, 0)
	})
}

func (l *lighttpdReader) block(path string, tokens []token, at *int, b *lighttpdBlock, depth int) {
	for *at < len(tokens) && !l.full {
		t := tokens[*at]
		line := facts.Line{File: path, Line: t.line}
		if !l.one(line) || depth == deepestBlock {
			return
		}
		next := func(i int) token {
			if *at+i < len(tokens) {
				return tokens[*at+i]
			}
			return token{}
		}
		switch {
		case t.text == "}" && !t.quoted:
			*at++
			b.last = t.line
			if depth == 0 {
				l.broken(line, facts.ConfSyntax, "there is a \"}\" too many")
				continue
			}
			return
		case t.text == "$" && !t.quoted:
			l.condition(path, tokens, at, b, depth)
		case t.text == "else" && !t.quoted:
			*at++
			if next(0).text == "if" {
				*at++
			}
			if next(0).text == "{" {
				*at++
				inner := &lighttpdBlock{Line: line, settings: map[string]lighttpdSet{}, operator: "else"}
				l.block(path, tokens, at, inner, depth+1)
				b.blocks = append(b.blocks, inner)
			}
		case t.text == "include" && !t.quoted:
			l.include(next(1).text, line, b)
			*at += 2
		case t.text == "include_shell" && !t.quoted:
			l.shell(next(1).text, line, b)
			*at += 2
		case !t.quoted && (next(1).text == "=" || next(1).text == "+=" || next(1).text == ":="):
			v, end := l.sum(tokens, *at+2)
			if strings.HasPrefix(t.text, "var.") || !strings.Contains(t.text, ".") {
				l.variables[strings.TrimPrefix(t.text, "var.")] = v.text
			}
			if strings.HasPrefix(t.text, "ssl.") && !isLighttpdSSL(t.text) {
				l.unknown(&Directive{Name: t.text, Line: line}, lighttpdSSL)
			}
			b.settings[t.text] = lighttpdSet{v, t.text, path}
			*at = end
		default:
			*at++
		}
	}
}

// sum reads a value, and those that are added to it.
func (l *lighttpdReader) sum(tokens []token, at int) (value, int) {
	v, end := readValue(tokens, at, "(", ")", "=>", 0)
	v.text = l.put(v)
	for end+1 < len(tokens) && tokens[end].text == "+" && !tokens[end].quoted {
		var more value
		more, end = readValue(tokens, end+1, "(", ")", "=>", 0)
		if v.text += l.put(more); len(v.text) > maxValue {
			v.text, v.opaque = "", "a text without end"
		}
	}
	return v, end
}

// put is the text of a value, with variables.
func (l *lighttpdReader) put(v value) string {
	if v.quoted || v.table {
		return v.text
	}
	if text, set := l.variables[strings.TrimPrefix(v.text, "var.")]; set {
		return text
	}
	return v.text
}

// condition reads $FIELD["name"] == "value" { … }.
func (l *lighttpdReader) condition(path string, tokens []token, at *int, b *lighttpdBlock, depth int) {
	inner := &lighttpdBlock{Line: facts.Line{File: path, Line: tokens[*at].line}, settings: map[string]lighttpdSet{}}
	for *at++; *at < len(tokens) && (tokens[*at].quoted || tokens[*at].text != "{"); *at++ {
		t := tokens[*at]
		switch {
		case t.text == "[" || t.text == "]":
		case strings.ContainsAny(t.text, "=~!") && !t.quoted:
			inner.operator = t.text
		case inner.operator != "":
			inner.wanted += t.text
		default:
			inner.field += t.text
		}
	}
	*at++
	l.block(path, tokens, at, inner, depth+1)
	b.blocks = append(b.blocks, inner)
}

func (l *lighttpdReader) include(pattern string, line facts.Line, into *lighttpdBlock) {
	path := l.absolute(pattern, filepath.Dir(l.main))
	files := l.matching(path, line)
	if len(files) == 0 && !strings.ContainsAny(path, "*?[") {
		l.broken(line, facts.ConfNoInclude, path)
	}
	for _, file := range files {
		l.file(file, line, into)
	}
}

// shell is a program whose output is configuration. Nothing is run here: what Debian's own programs say is known.
func (l *lighttpdReader) shell(command string, line facts.Line, into *lighttpdBlock) {
	switch {
	case strings.Contains(command, "include-conf-enabled"):
		l.include("conf-enabled/*.conf", line, into)
	case strings.Contains(command, "create-mime"), strings.Contains(command, "use-ipv6"):
	default:
		l.trouble(facts.NotUnderstood, line, facts.ConfNotComputed, "include_shell", "the output of "+command)
	}
}
