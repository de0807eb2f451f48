package peer

import "context"

type viaKey struct{}

// WithVia returns a context whose requests say through which registries they came (RFC 9110,
// section 7.6.3).
func WithVia(ctx context.Context, via []string) context.Context {
	return context.WithValue(ctx, viaKey{}, via)
}

func viaOf(ctx context.Context) []string {
	via, _ := ctx.Value(viaKey{}).([]string)
	return via
}
