package keeper

import (
	"context"
	"fmt"
	"sync"

	"yardbench/internal/core/rules"
	"yardbench/internal/store"
)

// house remembers the house rules in force as they were read.
type house struct {
	mu       sync.Mutex
	document string
	rules    rules.Rules
}

// Rules gives the house rules in force, as q sees them.
func (k *Keeper) Rules(ctx context.Context, q store.Q) (rules.Rules, int, error) {
	v, err := q.Rules(ctx)
	if err != nil {
		return rules.Rules{}, 0, fmt.Errorf("read the house rules: %w", err)
	}
	k.house.mu.Lock()
	defer k.house.mu.Unlock()
	if v.Document == k.house.document { // by its text: what q sees may never be committed
		return k.house.rules, v.Version, nil
	}
	r, findings := rules.Parse([]byte(v.Document))
	if len(findings) > 0 {
		return r, 0, fmt.Errorf("the house rules in force, version %d, cannot be read: %s", v.Version, findings[0])
	}
	k.house.document, k.house.rules = v.Document, r
	return r, v.Version, nil
}
