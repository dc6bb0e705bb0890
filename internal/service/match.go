package service

import (
	"context"
	"slices"

	"yardbench/internal/fault"
)

// Tagged is what has a tag: another one where people have changed it.
type Tagged interface{ Tag() string }

type matchKey struct{}

// AnyTag stands for every tag: what is to be changed must be there.
const AnyTag = "*"

// IfMatch says which tags a thing may have to be changed with the context; none is
// any, and that it need not be there.
func IfMatch(ctx context.Context, tags []string) context.Context {
	if len(tags) == 0 {
		return ctx
	}
	return context.WithValue(ctx, matchKey{}, tags)
}

// matches refuses to change a thing that is another than whoever asks has seen. It
// is called in the transaction that changes it; now is nil where there is none yet.
func matches(ctx context.Context, what string, now Tagged) error {
	tags, _ := ctx.Value(matchKey{}).([]string)
	switch {
	case len(tags) == 0, now != nil && (slices.Contains(tags, AnyTag) || slices.Contains(tags, now.Tag())):
		return nil
	case now == nil:
		return &fault.Fault{Class: fault.Stale, Kind: "changed", Detail: what + " is not there", Next: "ask without If-Match to make it"}
	}
	return &fault.Fault{Class: fault.Stale, Kind: "changed", Detail: "somebody has changed " + what + " since you looked", Next: "look at how it stands now, and ask again from there", Now: now}
}

// Matched tells whether it was said which tags a thing may have.
func Matched(ctx context.Context) bool { return ctx.Value(matchKey{}) != nil }

// wantedTags are the tags that a thing may have to be changed with the context.
func wantedTags(ctx context.Context) []string {
	tags, _ := ctx.Value(matchKey{}).([]string)
	return tags
}
