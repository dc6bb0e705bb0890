package engine

import (
	"context"
	"strconv"

	"github.com/moby/moby/client"

	"yardbench/internal/yard"
)

// A claim is an empty volume whose labels say whose it is.
const (
	labelClaim  = "yardbench.claim" // its number
	labelHolder = "yardbench.holder"
	labelWhere  = "yardbench.where"
)

// Claimed implements [yard.Claimer].
func (e *Engine) Claimed(ctx context.Context) (c yard.Claim, ok bool, err error) {
	vs, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: e.mine("").Add("label", labelClaim)})
	if err != nil {
		return c, false, e.wrap("look for a claim", err)
	}
	for _, v := range vs.Items {
		if n, err := strconv.Atoi(v.Labels[labelClaim]); err == nil && n > c.Number {
			c, ok = yard.Claim{Number: n, Holder: v.Labels[labelHolder], Where: v.Labels[labelWhere]}, true
		}
	}
	return c, ok, nil
}

// Claim implements [yard.Claimer].
func (e *Engine) Claim(ctx context.Context, c yard.Claim) error {
	name := func(n int) string { return "yb-" + e.Installation + "-claim-" + strconv.Itoa(n) }
	// A volume that is there already stays as it is, with its labels.
	if _, err := e.cli.VolumeCreate(ctx, client.VolumeCreateOptions{Name: name(c.Number), Labels: map[string]string{LabelInstallation: e.Installation,
		labelClaim: strconv.Itoa(c.Number), labelHolder: c.Holder, labelWhere: c.Where}}); err != nil {
		return e.wrap("put down a claim", err)
	}
	vs, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: e.mine("").Add("label", labelClaim)})
	if err != nil {
		return e.wrap("look for older claims", err)
	}
	for _, v := range vs.Items {
		if n, err := strconv.Atoi(v.Labels[labelClaim]); err == nil && n < c.Number {
			if _, err := e.cli.VolumeRemove(ctx, v.Name, client.VolumeRemoveOptions{}); gone(err) != nil {
				return e.wrap("take an older claim away", err)
			}
		}
	}
	return nil
}
