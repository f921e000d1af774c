package auth

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Limits of a password, in characters and in bytes.
const (
	leastPassword = 12
	mostPassword  = 256
)

// Argon2id's cost (RFC 9106): a guess costs a tenth of a second and 64 MiB.
const (
	hashTime    = 3
	hashMemory  = 64 << 10 // KiB
	hashThreads = 2
	hashSize    = 32
	saltSize    = 16
)

// hashing bounds how many passwords are hashed at once: each takes 64 MiB.
var hashing = make(chan struct{}, 2)

// CheckPassword says what is wrong with a new password, "" for nothing.
func CheckPassword(password string) string {
	switch {
	case !utf8.ValidString(password) || strings.ContainsRune(password, 0):
		return "the password holds what is no character"
	case utf8.RuneCountInString(password) < leastPassword:
		return fmt.Sprintf("the password has fewer than %d characters; a few random words are easy to remember",
			leastPassword)
	case len(password) > mostPassword:
		return fmt.Sprintf("the password is longer than %d bytes", mostPassword)
	}
	return ""
}

// Hash makes what is stored of a password: a PHC string with a fresh salt. The error is that of the context.
func Hash(ctx context.Context, password string) (string, error) {
	salt := make([]byte, saltSize)
	_, _ = rand.Read(salt) // crypto/rand never fails
	sum, err := hash(ctx, password, salt)
	encode := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, hashMemory, hashTime, hashThreads,
		encode(salt), encode(sum)), err
}

func hash(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case hashing <- struct{}{}:
		defer func() { <-hashing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return argon2.IDKey([]byte(password), salt, hashTime, hashMemory, hashThreads, hashSize), nil
}

// nobody's password costs the same to check, so that time does not tell which names there are.
var nobody = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$", argon2.Version, hashMemory, hashTime, hashThreads,
	strings.Repeat("A", base64.RawStdEncoding.EncodedLen(saltSize)))

// Matches reports whether the password is that of the hash; "" is the hash of nobody, which none matches.
func Matches(ctx context.Context, stored, password string) (bool, error) {
	if stored == "" {
		stored = nobody
	}
	if len(password) > mostPassword {
		return false, nil
	}
	parts := strings.Split(stored, "$")
	cost := fmt.Sprintf("m=%d,t=%d,p=%d", hashMemory, hashTime, hashThreads)
	if len(parts) != 6 || parts[1] != "argon2id" || parts[3] != cost {
		return false, nil
	}
	salt, errSalt := base64.RawStdEncoding.DecodeString(parts[4])
	want, errSum := base64.RawStdEncoding.DecodeString(parts[5])
	if errSalt != nil || errSum != nil {
		return false, nil
	}
	got, err := hash(ctx, password, salt)
	return err == nil && len(want) == hashSize && subtle.ConstantTimeCompare(got, want) == 1, err
}

// TokenPrefix begins every token, so that one that lies about is recognised.
const TokenPrefix = "nurvik_"

// NewSecret makes a secret of 256 bits for a cookie, a token or a set-up code, and the digest by which it is kept.
func NewSecret() (text string, digest []byte) {
	random := make([]byte, 32)
	_, _ = rand.Read(random) // crypto/rand never fails
	text = base64.RawURLEncoding.EncodeToString(random)
	return text, Digest(text)
}

// Digest is what is kept of a secret.
func Digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
