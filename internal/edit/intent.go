package edit

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"fencepost/wholefile"
	"fencepost/zoneload"
)

// intentFile is where a batch says what it is about to write, when that is more than
// one file: a program that is killed half way leaves it, and the next one that locks
// the folder finishes the work. All texts were made and checked before.
const intentFile = ".batch.intent"

// intended is one file of a batch.
type intended struct {
	Path string `json:"path"`
	Old  string `json:"old"` // digest of what it replaces; empty: the file is new
	Text []byte `json:"text"`
}

// DigestOf tells texts apart.
func DigestOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// intend writes down what a batch is about to do; done takes it away again.
func intend(files []*EditedFile) (done func(), err error) {
	if len(files) < 2 {
		return func() {}, nil
	}
	var list []intended
	for _, f := range files {
		path, err := filepath.Abs(f.path)
		if err != nil {
			return nil, err
		}
		in := intended{Path: path, Text: f.text}
		if !f.New {
			in.Old = DigestOf(f.old)
		}
		list = append(list, in)
	}
	text, err := json.Marshal(list)
	if err != nil {
		return nil, err
	}
	at := filepath.Join(filepath.Dir(list[0].Path), intentFile)
	if err := wholefile.WriteOurs(at, text, 0o600); err != nil {
		return nil, err
	}
	return func() { _ = os.Remove(at) }, nil
}

// maxIntent bounds what is read as an intent, which holds the texts of several files.
const maxIntent = 4 * zoneload.MaxFile

// finishIntended finishes what a batch was about to do in a folder that is locked.
// Files that somebody has changed since stay as they are.
func finishIntended(folder string) error {
	at := filepath.Join(folder, intentFile)
	info, err := os.Lstat(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	// It says what is written where: one that somebody else put there is not heeded.
	if owner := info.Sys().(*syscall.Stat_t).Uid; !info.Mode().IsRegular() || int(owner) != os.Geteuid() || info.Mode().Perm()&0o022 != 0 {
		return fmt.Errorf("%s is not ours (its owner is the user with number %d): run this as that user, or remove it and look over the zones", Shown(at), owner)
	}
	text, err := wholefile.Read(at, maxIntent)
	if err != nil {
		return err
	}
	var list []intended
	if err := json.Unmarshal(text, &list); err != nil {
		return os.Remove(at) // files are written wholly: this is none of ours
	}
	for _, in := range list {
		now, err := wholefile.Read(in.Path, zoneload.MaxFile)
		missing := errors.Is(err, fs.ErrNotExist)
		if err != nil && !missing {
			return err
		}
		if missing && in.Old == "" || !missing && in.Old == DigestOf(now) && !bytes.Equal(now, in.Text) {
			if err := WriteFile(in.Path, in.Text); err != nil {
				return err
			}
		}
	}
	return os.Remove(at)
}

// FinishIn finishes what was left half done in a folder of zones.
func FinishIn(folder string) error {
	if _, err := os.Lstat(filepath.Join(folder, intentFile)); err != nil {
		return nil
	}
	unlock, err := lockFolder(folder)
	if err != nil {
		return err
	}
	unlock()
	return nil
}
