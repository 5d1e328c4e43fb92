package control

import (
	"context"
	"net"
	"os/user"
	"strconv"
)

type callerKey struct{}

// Caller is who sent a command, by what the system says of the other end of the socket;
// empty where it says nothing.
func Caller(ctx context.Context) string {
	name, _ := ctx.Value(callerKey{}).(string)
	return name
}

func withCaller(ctx context.Context, conn net.Conn) context.Context {
	uid, ok := peerUID(conn)
	if !ok {
		return ctx
	}
	name := "user " + strconv.Itoa(uid)
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		name = u.Username
	}
	return context.WithValue(ctx, callerKey{}, name)
}
