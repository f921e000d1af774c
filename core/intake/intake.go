package intake

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"sync"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/inputfile"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/plain"
	"nurvik/core/rescue"
	"nurvik/core/words"
)

// Limits of reading: no real bundle or archive comes near, and a hostile one
// must not fill the memory.
const (
	MaxFileSize    = 64 << 20  // bytes of a file, or of an entry of an archive
	MaxArchiveSize = 256 << 20 // bytes that the entries of an archive may have in all
	MaxEntries     = 10_000    // entries of an archive
	MaxNesting     = 2         // archives inside each other
	MaxRatio       = 250       // bytes expanded for each byte compressed
)

// Results that a caller decides on.
var (
	// ErrNothing: the file is empty or nothing in it was recognised.
	ErrNothing = errors.New("nothing was recognised in it")
	// ErrTooLarge: a limit of reading was passed.
	ErrTooLarge = errors.New("it exceeds a reading limit")
)

// Reader turns files into facts. The zero value tries no password and has the
// usual budget. It may be used by several goroutines at once.
type Reader struct {
	keystore.Opener
	// Private, where it is set, is handed each private key that could be opened,
	// with the file as far as it was read: the key is its last item. The facts
	// never hold it.
	Private func(file *facts.File, der []byte)
	Memory  *brief.Memory // of what was decoded; nil remembers nothing
	// Linked, where it is set, is told of links to directories outside of a walk, which are not entered.
	Linked func(path, to string)
	// Look, where it is set, is shown the contents of each text that is read, by several goroutines at once.
	Look   func(path string, data []byte)
	Report rescue.Report // takes defects of the reader itself to the log; nil drops them

	once        sync.Once
	directories sync.Map // what is known of directories, by path
	names       sync.Map // of owners and groups, by number
}

// ReadFile reads the file at the path: one set of facts, or one for each entry
// of an archive. The error wraps ErrNothing, ErrTooLarge or what the system
// said, and names the path; with ErrTooLarge the facts say so too.
func (r *Reader) ReadFile(path string) ([]facts.File, error) {
	file, info, err := inputfile.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if !info.Mode().IsRegular() {
		return r.Read(path, file)
	}
	return r.read(path, file, info.Size(), func() *facts.Access { return r.access(path, info) })
}

// readRegular reads a path that is known to be a regular file and no link.
func (r *Reader) readRegular(path string) ([]facts.File, error) {
	file, err := openRegular(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return r.read(path, file, file.size(), func() *facts.Access { return file.access(r, path) })
}

// Read reads a stream under the name that reports should give it.
func (r *Reader) Read(name string, stream io.Reader) ([]facts.File, error) {
	return r.read(name, stream, 0, func() *facts.Access { return nil })
}

// read reads a stream of about the expected size.
func (r *Reader) read(name string, stream io.Reader, expected int64, access func() *facts.Access) ([]facts.File,
	error) {
	buffer := newBuffer()
	err := fill(buffer, stream, expected, MaxFileSize+1)
	data := buffer.Bytes()
	if plainText(data) && len(data) < 1<<16 {
		defer keep(buffer)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	if r.Look != nil && len(data) <= maxLook && plainText(data) {
		r.Look(name, data)
	}
	var files []facts.File
	other := ""
	if len(data) > MaxFileSize || expected > MaxFileSize && !program(data) {
		files = []facts.File{tooLarge(newFile(name), facts.FileOver64MiB)}
	} else {
		r.prepare()
		e := &expansion{reader: r}
		if defect := r.Report.Do(name, func() { e.add(name, data, 0) }); defect != nil {
			e.files = append(e.files, unread(name, defect))
		}
		files, other = e.files, e.foreign
	}
	nothing := true
	for i := range files {
		if len(files[i].Items)+len(files[i].Defects) == 0 {
			continue
		}
		nothing = false
		if files[i].Path != name {
			files[i].Archive = name
		}
		files[i].Access = access()
		plain.Clean(&files[i])
	}
	if nothing && len(data) >= 1<<16 { // nobody holds a part of it
		keep(buffer)
	}
	if nothing && other != "" {
		return nil, fmt.Errorf("%s: %w; it holds keys of %s, which TLS does not use", name, ErrNothing, other)
	}
	if nothing {
		return nil,
			fmt.Errorf("%s: %w; it holds no certificate, key, request or other material of a kind that is known", name,
				ErrNothing)
	}
	var failure error
	for _, f := range files {
		for _, d := range f.Defects {
			if d.Kind == facts.TooLarge {
				failure = fmt.Errorf("%s: %w: %s", f.Path, ErrTooLarge, words.Of(d.Reason))
			}
		}
	}
	return files, failure
}

// maxLook is the largest text that is shown to Look, in bytes.
const maxLook = 16 << 20

// buffers are used again for texts of which nothing is kept but copies.
var buffers = sync.Pool{New: func() any { return new(bytes.Buffer) }}

func newBuffer() *bytes.Buffer {
	buffer, _ := buffers.Get().(*bytes.Buffer)
	buffer.Reset()
	return buffer
}

// keep lets a buffer be used again, unless it is so large that few files need it.
func keep(buffer *bytes.Buffer) {
	if buffer.Cap() <= 8<<20 {
		buffers.Put(buffer)
	}
}

// fill reads a stream of about the expected size, and not more than most bytes. Only the head is read of a
// program, and of what is known to be longer.
func fill(buffer *bytes.Buffer, stream io.Reader, expected, most int64) error {
	buffer.Grow(int(min(max(expected, headSize), 1<<16)) + bytes.MinRead)
	_, err := io.CopyN(buffer, stream, min(headSize, most))
	switch {
	case errors.Is(err, io.EOF):
		return nil
	case err != nil || program(buffer.Bytes()) || expected >= most:
		return err
	}
	buffer.Grow(int(min(expected, most)) + bytes.MinRead)
	_, err = buffer.ReadFrom(io.LimitReader(stream, most-headSize))
	return err
}

// plainText reports whether everything that is found in the data is a copy:
// DER, keystores and archives are kept as they are in memory.
func plainText(data []byte) bool {
	for _, c := range data[:min(len(data), 64)] {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return !isTar(data)
}

func newFile(path string) facts.File {
	return facts.File{Schema: facts.Schema, Path: path, Items: []facts.Item{}}
}

func tooLarge(f facts.File, code facts.Code, args ...any) facts.File {
	f.Defects = append(f.Defects, facts.Defect{Kind: facts.TooLarge, Reason: facts.Because(code, args...)})
	return f
}

// Recognise finds the material in the bytes of one file that is no archive.
func (r *Reader) Recognise(name string, data []byte) facts.File {
	f, _ := r.recognise(name, data)
	plain.Clean(&f)
	return f
}

// unread is a file whose reading a defect of ours ended.
func unread(name string, defect *rescue.Defect) facts.File {
	f := newFile(name)
	f.Defects = []facts.Defect{{Kind: facts.ReadingFailed, Reason: facts.Because(facts.OwnDefect, defect.Reference)}}
	return f
}

// prepare gives the reader a budget: a hostile keystore must not spend hours, whoever reads it.
func (r *Reader) prepare() {
	r.once.Do(func() {
		if r.Budget == nil {
			r.Budget = &pbe.Budget{}
		}
	})
}

// recognise also says what other programs' keys were met.
func (r *Reader) recognise(name string, data []byte) (f facts.File, foreign string) {
	r.prepare()
	s := &scan{reader: r, file: newFile(name)}
	defect := r.Report.Do(name, func() {
		s.bytes(data)
		s.finish()
	})
	if defect != nil { // what was read until then may be half of something
		return unread(name, defect), ""
	}
	return s.file, s.foreign
}

// scan collects what one file holds.
type scan struct {
	reader  *Reader
	file    facts.File
	place   facts.Place       // where the part that is looked at begins
	first   []byte            // the first block of this file
	seen    map[uint64][]byte // blocks of this file, by their sums
	depth   int               // of base64 inside base64
	foreign string            // other programs' keys that were met, such as OpenPGP
	origin  *origin
}

// origin is where a text that is part of another one begins in the file.
type origin struct {
	line, offset int
	lines        bool // its lines are lines of the file
	shifted      bool // it follows something binary, to the end of the file
}

// at is the place in the file of a byte of the text.
func (s *scan) at(t *text, position int) (line, offset int) {
	switch o := s.origin; {
	case o == nil:
		return t.lineOf(position), t.offset(position)
	case o.shifted:
		return 0, o.offset + t.offset(position)
	case o.lines:
		return o.line + t.lineOf(position) - 1, o.offset
	default:
		return o.line, o.offset
	}
}

// mostDefects of one file are noted; more tell nothing new.
const mostDefects = 100

func (s *scan) defectAt(t *text, position int, kind facts.DefectKind, grammar facts.Grammar, code facts.Code,
	args ...any) {
	if len(s.file.Defects) >= mostDefects { // counting lines backwards is not free
		return
	}
	line, offset := s.at(t, position)
	s.defect(kind, grammar, line, offset, code, args...)
}

func (s *scan) defect(kind facts.DefectKind, grammar facts.Grammar, line, offset int, code facts.Code, args ...any) {
	if len(s.file.Defects) < mostDefects {
		s.file.Defects = append(s.file.Defects, facts.Defect{Kind: kind, Grammar: grammar, Line: line, Offset: offset,
			Reason: facts.Because(code, args...)})
	}
}

// damaged notes a defect at the place of the part that is looked at.
func (s *scan) damaged(code facts.Code, args ...any) {
	s.defect(facts.Damaged, facts.Outside, s.place.Line, s.place.Offset, code, args...)
}

// bytes decides by the contents what a part is.
func (s *scan) bytes(data []byte) {
	switch {
	case len(data) == 0, program(data):
	case keystore.LooksJava(data):
		store, err := keystore.ReadJava(data, s.reader.Opener)
		if err == nil {
			s.keystore(store)
		}
	case data[0] == 0x30 && s.der(data):
	default:
		s.text(data)
	}
}

// finish looks at the file as a whole.
func (s *scan) finish() {
	if !meantForCertificates(s.file.Path) {
		return
	}
	certificates := false
	for _, item := range s.file.Items {
		certificates = certificates || item.Kind == facts.Certificate
	}
	for _, item := range s.file.Items {
		if certificates && item.Kind == facts.PrivateKey && item.Container == "" {
			s.defect(facts.KeyAmong, facts.Standard, item.Line, item.Offset, facts.KeyInCertificates)
			return
		}
	}
}

// meantForCertificates looks at the name: a suffix or a word that says certificate, and none that says key.
func meantForCertificates(path string) bool {
	name := strings.ToLower(filepath.Base(path))
	for _, word := range []string{"key", "priv", "combined"} {
		if strings.Contains(name, word) {
			return false
		}
	}
	switch filepath.Ext(name) {
	case ".crt", ".cer", ".cert":
		return true
	}
	for _, word := range []string{"cert", "chain", "bundle"} {
		if strings.Contains(name, word) {
			return true
		}
	}
	return false
}
