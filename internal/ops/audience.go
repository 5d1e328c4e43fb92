package ops

import (
	"context"

	"fencepost/dnsname"
	"fencepost/store"
	"fencepost/workspace"
)

type audienceKey struct{}

// WithAudience notes whose version of a zone a command is about; empty: everyone's.
func WithAudience(ctx context.Context, audience string) context.Context {
	return context.WithValue(ctx, audienceKey{}, audience)
}

// AudienceOf is whose version of a zone a command is about.
func AudienceOf(ctx context.Context) string {
	audience, _ := ctx.Value(audienceKey{}).(string)
	return audience
}

// versions is where the versions of zones for the audience of a command are kept.
func (sv *Service) versions(ctx context.Context) *store.Store { return sv.store.For(AudienceOf(ctx)) }

// zoneFor is a zone as commands to the running server name it: ZONE or ZONE@AUDIENCE.
func zoneFor(name dnsname.Name, audience string) string {
	if audience == "" {
		return name.String()
	}
	return name.String() + workspace.AudienceMark + audience
}
