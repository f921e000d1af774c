package harbour

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
)

// keyring makes keys by name and keeps them in a directory, so that a second
// start finds the same ones at once.
type keyring struct {
	directory string
	mutex     sync.Mutex
	keys      map[string]crypto.Signer
}

func newKeyring(directory string) (*keyring, error) {
	return &keyring{directory: directory, keys: map[string]crypto.Signer{}}, os.MkdirAll(directory, 0o700)
}

// ec returns the P-256 key of the name.
func (k *keyring) ec(name string) (crypto.Signer, error) {
	return k.key(name, newECKey)
}

func newECKey() (crypto.Signer, error) { return ecdsa.GenerateKey(elliptic.P256(), rand.Reader) }

// rsa returns the RSA key of the name.
func (k *keyring) rsa(name string, bits int) (crypto.Signer, error) {
	return k.key(fmt.Sprintf("%s-rsa%d", name, bits), func() (crypto.Signer,
		error) {
		return rsa.GenerateKey(rand.Reader, bits)
	})
}

// edwards returns the Ed25519 key of the name.
func (k *keyring) edwards(name string) (crypto.Signer, error) {
	return k.key(name+"-ed25519", func() (crypto.Signer, error) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		return key, err
	})
}

func (k *keyring) key(name string, generate func() (crypto.Signer, error)) (crypto.Signer, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if key, ok := k.keys[name]; ok {
		return key, nil
	}
	path := filepath.Join(k.directory, name+".key")
	key, err := readKey(path)
	if errors.Is(err, os.ErrNotExist) {
		if key, err = generate(); err == nil {
			err = writeKey(path, key)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("key %s: %w", name, err)
	}
	k.keys[name] = key
	return key, nil
}

func readKey(path string) (crypto.Signer, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key; remove it and start again", path)
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; remove it and start again", path, err)
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("%s holds a key that cannot sign", path)
	}
	return signer, nil
}

func writeKey(path string, key crypto.Signer) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	return os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
}
