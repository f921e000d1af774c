package intake

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// expansion reads a file and, where it is an archive, what is in it.
type expansion struct {
	reader  *Reader
	files   []facts.File
	size    int // bytes of all entries so far
	count   int // entries so far
	over    bool
	foreign string // other programs' keys that were met
}

func isTar(data []byte) bool { return len(data) > 262 && string(data[257:262]) == "ustar" }

// add reads the bytes under the path; depth counts the archives around them.
func (e *expansion) add(path string, data []byte, depth int) {
	var open func(string, []byte, int) error
	switch {
	case bytes.HasPrefix(data, []byte("PK\x03\x04")):
		open = e.zip
	case isTar(data):
		open = e.tar
	case bytes.HasPrefix(data, []byte("\x1f\x8b\x08")):
		open = e.gzip
	default:
		f, foreign := e.reader.recognise(path, data)
		if e.foreign == "" {
			e.foreign = foreign
		}
		if depth == 0 || len(f.Items)+len(f.Defects) > 0 {
			e.files = append(e.files, f)
		}
		return
	}
	if depth >= MaxNesting {
		e.files = append(e.files, tooLarge(newFile(path), facts.NestedTooDeep, MaxNesting))
		return
	}
	if err := open(path, data, depth); err != nil && !e.over {
		e.broken(path, err)
	}
}

var errLimit = errors.New("a limit was passed")

// entry reads one entry within the limits. compressed is its size in the archive in bytes, 0 where it is not
// known. An entry that is too large or broken is told and passed over; errLimit says that the rest is not read.
func (e *expansion) entry(archive, name string, stream io.Reader, compressed int64, depth int) error {
	path := entryPath(archive, name)
	if e.count++; e.count > MaxEntries {
		return e.limit(path, facts.TooManyEntries, MaxEntries)
	}
	most := mostOf(compressed)
	buffer := newBuffer()
	err := fill(buffer, stream, min(compressed, most), most+1)
	n := int64(buffer.Len())
	e.size += int(n)
	switch {
	case e.size > MaxArchiveSize:
		return e.limit(path, facts.ArchiveTooLarge)
	case n > MaxFileSize:
		e.files = append(e.files, tooLarge(newFile(path), facts.EntryTooLarge))
		return nil
	case n > most:
		e.files = append(e.files, tooLarge(newFile(path), facts.EntryTooDense, MaxRatio))
		return nil
	case err != nil:
		e.broken(path, err)
		if n == 0 {
			return nil
		}
	}
	before := len(e.files)
	e.add(path, buffer.Bytes(), depth+1)
	if len(e.files) == before { // nobody holds a part of it
		keep(buffer)
	}
	if e.over {
		return errLimit
	}
	return nil
}

// mostOf is how many bytes an entry of the compressed size may have.
func mostOf(compressed int64) int64 {
	if compressed <= 0 {
		return MaxFileSize
	}
	return min(MaxFileSize, max(compressed*MaxRatio, 1<<20))
}

func entryPath(archive, name string) string {
	return archive + "/" + pki.Printable(strings.TrimPrefix(name, "/"))
}

// limit ends the reading of the whole archive.
func (e *expansion) limit(path string, code facts.Code, args ...any) error {
	e.over = true
	e.files = append(e.files, tooLarge(newFile(path), code, args...))
	return errLimit
}

// broken tells of an archive or an entry that is damaged.
func (e *expansion) broken(path string, err error) {
	f := newFile(path)
	f.Defects = []facts.Defect{{Kind: facts.Damaged, Reason: facts.Because(facts.ArchiveDamaged, err)}}
	e.files = append(e.files, f)
}

func (e *expansion) tar(path string, data []byte, depth int) error {
	archive := tar.NewReader(bytes.NewReader(data))
	for {
		header, err := archive.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case header.Typeflag != tar.TypeReg:
			continue
		}
		if err := e.entry(path, header.Name, archive, 0, depth); err != nil {
			return err
		}
	}
}

// gzip expands a compressed file; a compressed tar counts as one archive.
func (e *expansion) gzip(path string, data []byte, depth int) error {
	stream, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	most := min(int64(MaxFileSize), max(int64(len(data))*MaxRatio, 1<<20))
	expanded, err := io.ReadAll(io.LimitReader(stream, most+1))
	if int64(len(expanded)) > most {
		return e.limit(path, facts.EntryTooDense, MaxRatio)
	}
	if err != nil && len(expanded) == 0 {
		return err
	}
	if err != nil { // what is there is read all the same
		e.broken(path, err)
	}
	if isTar(expanded) {
		return e.tar(path, expanded, depth)
	}
	name := stream.Name
	if name == "" {
		name = strings.TrimSuffix(path[strings.LastIndexByte(path, '/')+1:], ".gz")
	}
	return e.entry(path, name, bytes.NewReader(expanded), 0, depth)
}
