package ops

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strconv"

	"fencepost/dnsname"
	"fencepost/internal/control"
	"fencepost/workspace"
)

// ErrNotAllowed means that whoever gave a command may not.
var ErrNotAllowed = errors.New("not allowed")

// commandRights are the rights that a command over the control socket takes, any one of them; empty:
// whoever has one at all may see that.
var commandRights = map[string][]workspace.Right{
	"status": {}, "history": {}, "compare": {}, "version": {}, "published": {}, "dump": {}, "answer": {},
	"reload": {workspace.MayReload, workspace.MayPublish}, "refresh": {workspace.MayReload, workspace.MayPublish}, "notify": {workspace.MayReload, workspace.MayPublish},
	"keys": {workspace.MaySign}, "roll": {workspace.MayRoll}, "pending": {}, "ring": {}, "fold": {workspace.MayChange}, "update": {workspace.MayChange},
}

// Known reports whether the configuration lets somebody do anything.
func (sv *Service) Known(who *control.Identity) bool {
	return sv.Config().Allows(namesOf(who), who.Groups, dnsname.Name{})
}

func namesOf(who *control.Identity) []string { return []string{who.Name, strconv.Itoa(who.UID)} }

// Allow is nil where whoever gave a command may: whoever the server runs as, and those whom the
// configuration allows it. Where the system does not say who it is, only the owner reaches the socket.
func (sv *Service) Allow(ctx context.Context, command string, zone dnsname.Name, args json.RawMessage) error {
	who := control.Who(ctx)
	if who == nil || who.Owner() {
		return nil
	}
	if command == "pending" && changesPending(args) {
		command = "fold"
	}
	rights, known := commandRights[command]
	if known && sv.Config().Allows(namesOf(who), who.Groups, zone, rights...) {
		return nil
	}
	if !known || len(rights) == 0 {
		return fmt.Errorf("%w: %s may not use this server", ErrNotAllowed, who.Name)
	}
	of, zones := "all zones", ""
	if !zone.IsZero() {
		of, zones = zone.Plain(), fmt.Sprintf(", zones = [%q]", zone.Plain())
	}
	return fmt.Errorf("%w: %s may not %s %s; the owner of %s can allow it: [[allow]] users = [%q]%s, may = [%q]",
		ErrNotAllowed, who.Name, rights[0], of, workspace.ConfigFile, cmp.Or(who.Account, strconv.Itoa(who.UID)), zones, rights[0])
}

// changesPending reports whether a command about what is pending does more than look.
func changesPending(args json.RawMessage) bool {
	var in pendingArgs
	return json.Unmarshal(args, &in) == nil && (in.Offer || in.Drop != "")
}

// OpenControl lets others than its owner reach the control socket where something is allowed to some.
func (sv *Service) OpenControl() {
	c := sv.Config()
	open := len(c.Allow) > 0
	if open && !control.KnowsCallers {
		sv.log.Warn("this system does not say who gives commands: [[allow]] is passed over")
		open = false
	}
	if err := control.Open(c.Control, open); err != nil && !errors.Is(err, fs.ErrNotExist) {
		sv.log.Error("who may reach the control socket could not be set", "error", err)
	}
}
