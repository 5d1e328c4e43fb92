package ui

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/server/zonestate"
	"fencepost/workspace"
)

// What to do about an error is said once: at the error itself, around which others may be
// wrapped, and not again where a server has said it already.
func TestExplain(t *testing.T) {
	zone := dnsname.MustParse("tides.example.")
	for _, c := range []struct {
		err  error
		says string
	}{
		{workspace.ErrNone, "fencepost init"},
		{control.ErrNotRunning, "fencepost serve"},
		{&keymanager.LostKeysError{Zone: zone, Folder: "keys/tides.example", Why: "the parent has a DS of key 7"}, "fencepost key new tides.example)"},
		{&keymanager.ClockBackError{Zone: zone}, "--clock-is-right"},
		{&keymanager.NoParentError{Zone: zone}, "--at SERVER"},
		{&keyring.PassphraseError{Path: "pass", Err: keyring.ErrReadable}, "chmod 600 pass"},
		{&keyring.PassphraseError{Path: "pass", Err: fs.ErrNotExist}, "passphrase-file"},
		{&keyring.KeyFileError{Path: "a.pem", Tag: 7, Err: fs.ErrNotExist}, "the file of key 7 back from a backup"},
		{&keyring.KeyFileError{Path: "a.pem", Tag: 7, Err: keyring.ErrForm}, "the file of key 7 back from a backup"},
		{&keyring.KeyFileError{Path: "a.pem", Tag: 7, Err: keyring.ErrOtherKey}, "the file of key 7 back"},
		{&keyring.KeyFileError{Path: "a.pem", Tag: 7, Err: keyring.ErrLocked}, "passphrase-file"},
		{&keyring.KeyFileError{Path: "a.pem", Tag: 7, Err: keyring.ErrPassphrase}, "was protected by"},
		{&zonestate.SerialError{Zone: zone, Now: 7, New: 7}, "fencepost serial tides.example --next"},
		{&zonestate.SerialError{Zone: zone, Now: 7, New: 5}, "--set 5 --plan"},
		{&zonestate.AheadError{Zone: zone, Its: 9, Ours: 7}, "--set 10"},
	} {
		if strings.Contains(c.err.Error(), "fencepost ") && !errors.Is(c.err, workspace.ErrNone) {
			t.Errorf("the core names a command: %s", c.err)
		}
		text := Explain(fmt.Errorf("signing: %w", c.err))
		if !strings.HasPrefix(text, "signing: "+c.err.Error()) || strings.Count(text, c.says) != 1 {
			t.Errorf("%q does not say %q once", text, c.says)
		}
		if again := Explain(fmt.Errorf("%s: %w", text, c.err)); strings.Count(again, c.says) != 1 {
			t.Errorf("it is said twice: %q", again)
		}
	}
	if got := Explain(errors.New("something else")); got != "something else" {
		t.Errorf("%q", got)
	}
}
