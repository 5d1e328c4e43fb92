package keyring

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"fencepost/wholefile"
)

// PassphraseError says why a file with a passphrase cannot be used: it is not there, others can read
// it, or it is empty.
type PassphraseError struct {
	Path string
	Err  error
}

func (e *PassphraseError) Error() string {
	if errors.Is(e.Err, fs.ErrNotExist) {
		return fmt.Sprintf("the passphrase: there is no file %s", e.Path)
	}
	return fmt.Sprintf("the passphrase in %s: %v", e.Path, e.Err)
}

// Cure is what to do about it.
func (e *PassphraseError) Cure() string {
	if errors.Is(e.Err, ErrReadable) {
		return "run: chmod 600 " + e.Path
	}
	return "write the passphrase of the keys into it, or name another file with passphrase-file in the zone's policy"
}

// Unwrap is what is wrong with it.
func (e *PassphraseError) Unwrap() error { return e.Err }

// ReadPassphrase reads a passphrase, the first line of a file that only its owner may be
// able to read; none for no file.
func ReadPassphrase(path string) ([]byte, error) {
	if path == "" {
		return nil, nil
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, &PassphraseError{path, err}
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, &PassphraseError{path, ErrReadable}
	}
	text, err := wholefile.Read(path, maxKeyFile)
	if err != nil {
		return nil, &PassphraseError{path, err}
	}
	line, _, _ := strings.Cut(string(text), "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return nil, &PassphraseError{path, errors.New("its first line is empty")}
	}
	return []byte(line), nil
}
