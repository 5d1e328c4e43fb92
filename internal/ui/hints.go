package ui

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"syscall"

	"fencepost/internal/control"
	"fencepost/keymanager"
	"fencepost/keyring"
	"fencepost/message"
	"fencepost/rr"
	"fencepost/server/zonestate"
	"fencepost/update"
	"fencepost/workspace"
)

// hints are what to do about errors of the core, which knows no commands. The first that
// fits an error is added to its text.
var hints = []func(error) string{
	is(workspace.ErrNone, "; make a workspace with: fencepost init DIR"),
	is(control.ErrNotRunning, "; start one with: fencepost serve"),
	as(func(e *keymanager.LostKeysError) string {
		z := e.Zone.Plain()
		return fmt.Sprintf(". Bring the folder back from the backup and reload; or make a key (fencepost key new %s), have the parent add its DS beside the old one (fencepost handover %s), and it is used as soon as the parent shows it; "+
			"or have the parent's operator enter its DS away, and the zone is signed anew when that is seen", z, z)
	}),
	as(func(*keymanager.ClockBackError) string {
		return "; if it was ahead then and is right now: fencepost reload --clock-is-right (signs everything anew); if not, set the clock right"
	}),
	as(func(*keymanager.NoParentError) string {
		return ": say --at SERVER, or parent = [...] for the zone in fencepost.toml"
	}),
	is(syscall.ENOSPC, "; make room on the disk"),
	is(syscall.EDQUOT, "; make room on the disk, or have the quota raised"),
	is(syscall.EROFS, "; see why it cannot be written to, and mount it for writing"),
	as(func(e *net.OpError) string {
		if e.Op == "dial" && e.Net == "unix" && errors.Is(e, fs.ErrPermission) {
			return "; only the user of the server reaches it, and whom fencepost.toml lets: [[allow]] users = [\"NAME\"], may = [...]"
		}
		return ""
	}),
	as(func(e *keyring.PassphraseError) string { return "; " + e.Cure() }),
	as(func(e *keyring.KeyFileError) string {
		if errors.Is(e, keyring.ErrReadable) {
			return "" // said already
		}
		return "; " + e.Cure()
	}),
	as(func(e *zonestate.SerialError) string {
		z := e.Zone.Plain()
		if e.New != e.Now {
			return fmt.Sprintf("; run: fencepost serial %s --next, or take the steps of: fencepost serial %s --set %d --plan", z, z, e.New)
		}
		return fmt.Sprintf("; run: fencepost serial %s --next", z)
	}),
	as(func(e *zonestate.ConflictError) string {
		z := e.Zone.Plain()
		return fmt.Sprintf("; to serve the file's records: fencepost pending %s --drop OWNER; to keep what is served: fencepost fold %s --over", z, z)
	}),
	as(func(e *update.RefusedError) string {
		switch {
		case e.Code == message.Refused && e.Key != "":
			return fmt.Sprintf("; nothing was changed. If a right is missing, the operator of that server grants it with a [[grant]] for key = %q", e.Key)
		case e.Code == message.NotAuth && e.Key != "":
			return fmt.Sprintf("; nothing was changed. Either it does not serve the zone: see to --at; or its secret %s is another one: compare it with yours in secrets.toml", e.Key)
		case e.Code == message.ServFail:
			return "; nothing was changed. Its log says more; try it again"
		}
		return "; nothing was changed"
	}),
	as(func(e *zonestate.AheadError) string {
		return fmt.Sprintf("; go past it with: fencepost serial %s --set %d", e.Zone.Plain(), rr.NextSerial(e.Its))
	}),
}

// Explain puts an error into words, with what to do about it.
func Explain(err error) string {
	text := err.Error()
	for _, h := range hints {
		if what := h(err); what != "" {
			if strings.Contains(text, strings.TrimLeft(what, ";:. ")) { // it came from the server, which said so
				return text
			}
			return text + what
		}
	}
	return text
}

// is gives a hint for an error of one value.
func is(target error, hint string) func(error) string {
	return func(err error) string {
		if errors.Is(err, target) {
			return hint
		}
		return ""
	}
}

// as gives a hint for errors of one type.
func as[E error](hint func(E) string) func(error) string {
	return func(err error) string {
		if e, ok := errors.AsType[E](err); ok {
			return hint(e)
		}
		return ""
	}
}
