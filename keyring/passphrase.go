package keyring

import (
	"fmt"
	"os"
	"strings"

	"fencepost/wholefile"
)

// PassphraseError says that a file with a passphrase can be read by others.
type PassphraseError struct{ Path string }

func (e *PassphraseError) Error() string {
	return fmt.Sprintf("the passphrase in %s: %s", e.Path, ErrReadable)
}

// Unwrap is what is wrong with it.
func (e *PassphraseError) Unwrap() error { return ErrReadable }

// ReadPassphrase reads a passphrase, the first line of a file that only its owner may be
// able to read; none for no file.
func ReadPassphrase(path string) ([]byte, error) {
	if path == "" {
		return nil, nil
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("the passphrase: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, &PassphraseError{path}
	}
	text, err := wholefile.Read(path, maxKeyFile)
	if err != nil {
		return nil, err
	}
	line, _, _ := strings.Cut(string(text), "\n")
	return []byte(strings.TrimRight(line, "\r")), nil
}
