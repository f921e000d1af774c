package pbe

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"encoding/binary"
	"hash/crc32"
)

// What the header of an entry says of its encryption.
const (
	ZipAESMethod  = 99     // the compression method that stands for AES; the real one is in the extra field
	zipAESExtra   = 0x9901 // the extra field of AES
	zipHeader     = 12     // bytes in front of an entry with the traditional encryption
	zipVerifier   = 2      // bytes behind the salt, by which most wrong passwords show
	zipAESRounds  = 1000
	zipMACSize    = 10 // bytes of HMAC-SHA1 that are kept
	zipExtraTotal = 7  // bytes of the extra field of AES
)

// ZipAES is the extra field of an entry that is encrypted with AES.
type ZipAES struct {
	Strength byte   // 1, 2, 3 for 128, 192 and 256 bits
	Method   uint16 // by which the plaintext is compressed
}

// ReadZipAES finds the extra field of AES among the extra fields of an entry.
func ReadZipAES(extra []byte) (ZipAES, error) {
	for len(extra) >= 4 {
		id, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		extra = extra[4:]
		if size > len(extra) {
			break
		}
		if id == zipAESExtra && size >= zipExtraTotal {
			return ZipAES{Strength: extra[4], Method: binary.LittleEndian.Uint16(extra[5:])}, nil
		}
		extra = extra[size:]
	}
	return ZipAES{}, damaged("the field that describes the AES encryption is missing")
}

// DecryptZipAES decrypts an entry of an archive that is encrypted with AES: salt, verifier, ciphertext
// (counter mode, the counter little-endian from 1) and the first ten bytes of HMAC-SHA1 over the ciphertext.
func DecryptZipAES(a ZipAES, data []byte, password string, budget *Budget) ([]byte, error) {
	if a.Strength < 1 || a.Strength > 3 {
		return nil, unsupported("AES of strength %d", a.Strength)
	}
	size := 8 + 8*int(a.Strength)
	if len(data) < size/2+zipVerifier+zipMACSize {
		return nil, damaged("the encrypted entry is cut off")
	}
	salt, data := data[:size/2], data[size/2:]
	blocks := (2*size + zipVerifier + sha1.Size - 1) / sha1.Size
	if err := budget.spend(zipAESRounds * blocks); err != nil {
		return nil, err
	}
	derived, err := pbkdf2.Key(sha1.New, password, salt, zipAESRounds, 2*size+zipVerifier)
	if err != nil {
		return nil, err
	}
	if string(derived[2*size:]) != string(data[:zipVerifier]) {
		return nil, ErrPassword
	}
	data, sum := data[zipVerifier:len(data)-zipMACSize], data[len(data)-zipMACSize:]
	mac := hmac.New(sha1.New, derived[size:2*size])
	mac.Write(data)
	if !hmac.Equal(mac.Sum(nil)[:zipMACSize], sum) {
		return nil, ErrPassword
	}
	block, err := aes.NewCipher(derived[:size])
	if err != nil {
		return nil, err
	}
	out := make([]byte, len(data))
	littleEndianCounter(block, out, data)
	return out, nil
}

func littleEndianCounter(block cipher.Block, out, data []byte) {
	var counter, stream [aes.BlockSize]byte
	for i := range data {
		if i%aes.BlockSize == 0 {
			binary.LittleEndian.PutUint64(counter[:], uint64(i/aes.BlockSize+1))
			block.Encrypt(stream[:], counter[:])
		}
		out[i] = data[i] ^ stream[i%aes.BlockSize]
	}
}

// zipKeys is the state of the traditional encryption of archives (APPNOTE.TXT of the format, section 6.1).
type zipKeys [3]uint32

func (k *zipKeys) update(plain byte) {
	k[0] = crc32.IEEETable[byte(k[0])^plain] ^ k[0]>>8
	k[1] = (k[1]+k[0]&0xff)*134775813 + 1
	k[2] = crc32.IEEETable[byte(k[2])^byte(k[1]>>24)] ^ k[2]>>8
}

// DecryptZip decrypts an entry with the traditional encryption. check is the byte that its header must end
// with: a wrong password passes one time in 256, so the caller compares the checksum of the contents too.
func DecryptZip(data []byte, check byte, password string) ([]byte, error) {
	if len(data) < zipHeader {
		return nil, damaged("the encrypted entry is cut off")
	}
	keys := zipKeys{0x12345678, 0x23456789, 0x34567890}
	for i := range len(password) {
		keys.update(password[i])
	}
	out := make([]byte, 0, len(data))
	for i, c := range data {
		t := keys[2] | 2
		c ^= byte(t * (t ^ 1) >> 8)
		keys.update(c)
		if i == zipHeader-1 && c != check {
			return nil, ErrPassword
		}
		out = append(out, c)
	}
	return out[zipHeader:], nil
}
