package intake

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"strings"

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
		f := newFile(path)
		f.Defects = []facts.Defect{{Kind: facts.Damaged, Reason: facts.Because(facts.ArchiveDamaged, err)}}
		e.files = append(e.files, f)
	}
}

var errLimit = errors.New("a limit was passed")

// entry reads one entry within the limits. compressed is its size in the archive in bytes, 0 where it is not known.
func (e *expansion) entry(archive, name string, stream io.Reader, compressed int64, depth int) error {
	path := archive + "/" + pki.Printable(strings.TrimPrefix(name, "/"))
	limit := func(code facts.Code, args ...any) error {
		e.over = true
		e.files = append(e.files, tooLarge(newFile(path), code, args...))
		return errLimit
	}
	if e.count++; e.count > MaxEntries {
		return limit(facts.TooManyEntries, MaxEntries)
	}
	most := int64(MaxFileSize)
	if compressed > 0 {
		most = min(most, max(compressed*MaxRatio, 1<<20))
	}
	var buffer bytes.Buffer
	n, err := io.Copy(&buffer, io.LimitReader(stream, most+1))
	e.size += int(n)
	switch {
	case n > MaxFileSize:
		return limit(facts.EntryTooLarge)
	case n > most:
		return limit(facts.EntryTooDense, MaxRatio)
	case e.size > MaxArchiveSize:
		return limit(facts.ArchiveTooLarge)
	case err != nil:
		return err
	}
	e.add(path, buffer.Bytes(), depth+1)
	if e.over {
		return errLimit
	}
	return nil
}

func (e *expansion) zip(path string, data []byte, depth int) error {
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	for _, file := range archive.File {
		if file.FileInfo().IsDir() {
			continue
		}
		if file.Flags&1 != 0 {
			f := newFile(path + "/" + pki.Printable(file.Name))
			f.Items = []facts.Item{{Kind: facts.Keystore, Container: "zip", Locked: facts.Unsupported,
				Detail: &facts.Reason{Code: facts.EncryptedEntry}}}
			e.files = append(e.files, f)
			continue
		}
		stream, err := file.Open()
		if err != nil {
			return err
		}
		err = e.entry(path, file.Name, stream, int64(file.CompressedSize64), depth)
		stream.Close()
		if err != nil {
			return err
		}
	}
	return nil
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
		e.over = true
		e.files = append(e.files, tooLarge(newFile(path), facts.EntryTooDense, MaxRatio))
		return errLimit
	}
	if err != nil {
		return err
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
