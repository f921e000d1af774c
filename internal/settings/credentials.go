package settings

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Credential is a token that "nurvik login" stored for one service.
type Credential struct {
	Name  string `json:"name"` // whose it is
	ID    int64  `json:"id,omitempty"`
	Token string `json:"token"`
}

// Credentials are the tokens by the addresses of their services: one is never
// sent to another service than it is for.
type Credentials map[string]Credential

// CredentialsFile is where they are, beside the configuration file.
func CredentialsFile(configuration string) string {
	return filepath.Join(filepath.Dir(configuration), "credentials.json")
}

// ReadCredentials reads the file; none is no error, and one that others can read is.
func ReadCredentials(path string) (Credentials, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	switch {
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is no regular file", path)
	case info.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("others can read the tokens in %s (mode %04o). Say chmod 0600 %s, and if others could "+
			"have read it, take the tokens back in the console", path, info.Mode().Perm(), path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var out Credentials
	if err := json.Unmarshal(data, &out); err != nil {
		return nil, fmt.Errorf("%s: %w; remove it and say \"nurvik login\" again", path, err)
	}
	return out, nil
}

// WriteCredentials replaces the file, which only its owner can read.
func WriteCredentials(path string, c Credentials) error {
	data, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	// A file of its own first, so that an interrupted call leaves the old one whole. It is made with mode 0600.
	fresh, err := os.CreateTemp(filepath.Dir(path), ".credentials-")
	if err != nil {
		return err
	}
	_, err = fresh.Write(append(data, '\n'))
	if err = errors.Join(err, fresh.Sync(), fresh.Close()); err == nil {
		err = os.Rename(fresh.Name(), path)
	}
	if err != nil {
		_ = os.Remove(fresh.Name())
	}
	return err
}
