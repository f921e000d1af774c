package intake

import (
	"bytes"
	"errors"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"

	"nurvik/core/facts"
	"nurvik/core/pbe"
)

const encryptedEntry = 1 // the flag of an entry that is encrypted

func (e *expansion) zip(path string, data []byte, depth int) error {
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	for _, file := range archive.File {
		if file.FileInfo().IsDir() {
			continue
		}
		var stream io.Reader
		if file.Flags&encryptedEntry != 0 {
			stream, err = e.decrypted(file)
		} else {
			stream, err = file.Open()
		}
		switch {
		case file.Flags&encryptedEntry != 0 && err != nil && !errors.Is(err, pbe.ErrDamaged):
			f := newFile(entryPath(path, file.Name))
			item := facts.Item{Kind: facts.Keystore, Container: "zip", Locked: reasonOf(err)}
			if item.Locked == facts.Unsupported {
				item.Detail = &facts.Reason{Code: facts.EncryptedEntry}
			}
			f.Items = []facts.Item{item}
			e.files = append(e.files, f)
			continue
		case err != nil:
			e.broken(entryPath(path, file.Name), err)
			continue
		}
		err = e.entry(path, file.Name, stream, int64(file.CompressedSize64), depth)
		if closer, ok := stream.(io.Closer); ok {
			closer.Close()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// decrypted opens an encrypted entry with the passwords of the reader. The error says why it stayed closed.
func (e *expansion) decrypted(file *zip.File) (io.Reader, error) {
	raw, err := file.OpenRaw()
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(raw, MaxFileSize))
	if err != nil {
		return nil, err
	}
	if e.size += len(data); e.size > MaxArchiveSize { // entries may share their bytes
		return nil, pbe.ErrTooCostly
	}
	method, field := file.Method, pbe.ZipAES{}
	if method == pbe.ZipAESMethod {
		if field, err = pbe.ReadZipAES(file.Extra); err != nil {
			return nil, err
		}
		method = field.Method
	}
	if method != zip.Store && method != zip.Deflate {
		return nil, pbe.ErrUnsupported
	}
	var out []byte
	err = e.reader.Try(func(password string) error {
		var plain []byte
		var err error
		if file.Method == pbe.ZipAESMethod {
			plain, err = pbe.DecryptZipAES(field, data, password, e.reader.Budget)
		} else {
			plain, err = pbe.DecryptZip(data, checkByte(file), password)
		}
		if err != nil {
			return err
		}
		if out, err = inflated(plain, method, mostOf(int64(file.CompressedSize64))+1); err != nil {
			return pbe.ErrPassword
		}
		if file.Method != pbe.ZipAESMethod && int64(len(out)) <= mostOf(int64(file.CompressedSize64)) &&
			crc32.ChecksumIEEE(out) != file.CRC32 {
			return pbe.ErrPassword
		}
		return nil
	})
	return bytes.NewReader(out), err
}

// checkByte is what the header of the traditional encryption ends with: of the checksum, or of the time where
// the checksum follows the entry.
func checkByte(file *zip.File) byte {
	const checksumFollows = 8
	if file.Flags&checksumFollows != 0 {
		//lint:ignore SA1019 the time as it is written is what counts
		return byte(file.ModifiedTime >> 8)
	}
	return byte(file.CRC32 >> 24)
}

func inflated(data []byte, method uint16, most int64) ([]byte, error) {
	if method == zip.Store {
		return data[:min(int64(len(data)), most)], nil
	}
	return io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(data)), most))
}
