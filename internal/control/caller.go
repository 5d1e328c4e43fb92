package control

import (
	"context"
	"net"
	"os"
	"os/user"
	"slices"
	"strconv"
)

type callerKey struct{}

// Identity is who sent a command, by what the system says of the other end of the socket.
type Identity struct {
	UID     int
	Account string   // the name of the user; empty where the system knows none
	Name    string   // that, or words for it
	Groups  []string // names; not looked up for an Owner, who may do anything
}

// Owner reports whether it is whoever the server runs as, or root.
func (id *Identity) Owner() bool { return id.UID == 0 || id.UID == os.Geteuid() }

// Who is who sent a command; nil where the system says nothing.
func Who(ctx context.Context) *Identity {
	id, _ := ctx.Value(callerKey{}).(*Identity)
	return id
}

// Caller is the name of who sent a command; empty where the system says nothing.
func Caller(ctx context.Context) string {
	if id := Who(ctx); id != nil {
		return id.Name
	}
	return ""
}

func withCaller(ctx context.Context, conn net.Conn) context.Context {
	if c, ok := conn.(*placed); ok && c.id != nil {
		return context.WithValue(ctx, callerKey{}, c.id)
	}
	return ctx
}

// identityOf is who is at the other end of a connection; nil where the system does not say.
func identityOf(conn net.Conn) *Identity {
	uid, gid, ok := peerUser(conn)
	if !ok {
		return nil
	}
	id := &Identity{UID: uid, Name: "user " + strconv.Itoa(uid)}
	groups := []string{strconv.Itoa(gid)}
	u, err := user.LookupId(strconv.Itoa(uid))
	if err == nil {
		id.Account, id.Name = u.Username, u.Username
	}
	if id.Owner() {
		return id
	}
	if err == nil {
		more, _ := u.GroupIds() // none where they cannot be looked up
		groups = append(groups, more...)
	}
	slices.Sort(groups)
	for _, g := range slices.Compact(groups) {
		if named, err := user.LookupGroupId(g); err == nil {
			id.Groups = append(id.Groups, named.Name)
		}
	}
	return id
}
