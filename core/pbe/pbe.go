package pbe

import (
	"crypto/cipher"
	"encoding/asn1"
	"errors"
	"fmt"
	"sync/atomic"
)

// Results that a caller decides on.
var (
	// ErrPassword: the password is wrong, as far as can be told.
	ErrPassword = errors.New("the password is wrong")
	// ErrUnsupported: the protection is of a kind that is not read here.
	ErrUnsupported = errors.New("the protection is not supported")
	// ErrTooCostly: deriving the key would pass a limit.
	ErrTooCostly = errors.New("deriving the key from the password is too costly")
	// ErrDamaged: parameters or contents are malformed.
	ErrDamaged = errors.New("the protection is damaged")
)

// Limits of key derivation: a real file asks for a tenth of it at most.
const (
	MaxRounds    = 1_000_000
	MaxRunRounds = 20_000_000
	maxScrypt    = 64 << 20 // bytes of memory
)

// Budget counts the rounds of key derivation that one run may spend. It may be shared.
type Budget struct {
	Most  int64 // rounds of the run; 0 for MaxRunRounds
	spent atomic.Int64
}

// spend takes rounds from the budget. A nil budget checks the single derivation only.
func (b *Budget) spend(rounds int) error {
	if rounds < 0 || rounds > MaxRounds {
		return fmt.Errorf("%w: %d rounds, at most %d are done", ErrTooCostly, rounds, MaxRounds)
	}
	if b == nil {
		return nil
	}
	most := b.Most
	if most == 0 {
		most = MaxRunRounds
	}
	if b.spent.Add(int64(rounds)) > most {
		return fmt.Errorf("%w: more than %d rounds in one run", ErrTooCostly, most)
	}
	return nil
}

func unsupported(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrUnsupported, fmt.Sprintf(format, args...))
}

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// algorithmIdentifier is the AlgorithmIdentifier of every scheme.
type algorithmIdentifier struct {
	Algorithm  asn1.ObjectIdentifier
	Parameters asn1.RawValue `asn1:"optional"`
}

// scheme derives a key and sets up the cipher.
type scheme struct {
	name string
	open func(parameters []byte, password string, budget *Budget) (opened, error)
}

// opened is a cipher that is ready: a block cipher with its first vector, or a stream.
type opened struct {
	block  cipher.Block
	iv     []byte
	stream cipher.Stream
}

// Name tells the scheme of an AlgorithmIdentifier, in words.
func Name(algorithm []byte) string {
	var id algorithmIdentifier
	if _, err := asn1.Unmarshal(algorithm, &id); err != nil {
		return "damaged"
	}
	if id.Algorithm.String() == oidPBES2 {
		return pbes2Name(id.Parameters.FullBytes)
	}
	if s, ok := schemes[id.Algorithm.String()]; ok {
		return s.name
	}
	return "unknown scheme " + id.Algorithm.String()
}

// Decrypt undoes the encryption that the AlgorithmIdentifier, in DER,
// describes. A wrong password usually shows as bad padding, one time in 256 it
// does not: the caller must look at the result.
func Decrypt(algorithm, ciphertext []byte, password string, budget *Budget) ([]byte, error) {
	var id algorithmIdentifier
	if rest, err := asn1.Unmarshal(algorithm, &id); err != nil || len(rest) > 0 {
		return nil, damaged("the algorithm identifier is malformed")
	}
	s, ok := schemes[id.Algorithm.String()]
	if !ok {
		return nil, unsupported("scheme %s", id.Algorithm)
	}
	o, err := s.open(id.Parameters.FullBytes, password, budget)
	if err != nil {
		return nil, err
	}
	return o.decrypt(ciphertext)
}

func (o opened) decrypt(ciphertext []byte) ([]byte, error) {
	if o.stream != nil {
		out := make([]byte, len(ciphertext))
		o.stream.XORKeyStream(out, ciphertext)
		return out, nil
	}
	size := o.block.BlockSize()
	if len(o.iv) != size {
		return nil, damaged("the initial vector has %d bytes instead of %d", len(o.iv), size)
	}
	if len(ciphertext) == 0 || len(ciphertext)%size != 0 {
		return nil, damaged("the encrypted part has %d bytes, no multiple of %d: it is cut off", len(ciphertext), size)
	}
	out := make([]byte, len(ciphertext))
	cipher.NewCBCDecrypter(o.block, o.iv).CryptBlocks(out, ciphertext)
	padding := int(out[len(out)-1]) // RFC 8018, 6.1.1, step 4
	if padding < 1 || padding > size {
		return nil, ErrPassword
	}
	for _, b := range out[len(out)-padding:] {
		if int(b) != padding {
			return nil, ErrPassword
		}
	}
	return out[:len(out)-padding], nil
}
