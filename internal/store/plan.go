package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"yardbench/internal/core/definition"
)

type (
	plansReads  struct{ reader }
	plansWrites struct{ *txn }
)

// Plan is what a body is made from. It is written once and shared by all that
// are made from the same: a changed one is another one. Nobody changes what a
// Plan from the records points to.
type Plan struct {
	Commit      string                `json:"commit"`
	Definition  definition.Definition `json:"definition"`
	Fingerprint string                `json:"fingerprint"` // of the image
	Image       string                `json:"image"`       // in the yard; "" until made
	Prepared    *Prepared             `json:"prepared,omitempty"`
	// Findings are the warnings of the definition.
	Findings []definition.Finding `json:"findings,omitempty"`
	// Beside are the further repositories of the definition.
	Beside []Beside `json:"beside,omitempty"`
	// Asked are the further repositories that the launch itself asked for.
	Asked []definition.Beside `json:"asked,omitempty"`
	// ServiceImages are the images of the definition's services, by name, in
	// the yard.
	ServiceImages map[string]string `json:"service_images,omitempty"`
	// Scratch says why no prepared image serves.
	Scratch string `json:"scratch,omitempty"`
	// Adopted is the container that was taken on, where there is nothing to make.
	Adopted *Adopted `json:"adopted,omitempty"`
}

// Adopted is a container that others started.
type Adopted struct {
	Container string `json:"container"` // in the yard
	Name      string `json:"name"`
}

// Beside is a further repository, and where it is cloned.
type Beside struct {
	RepositoryID string `json:"repository_id"`
	Name         string `json:"name"`
	URL          string `json:"url"`
	Branch       string `json:"branch"`
	Folder       string `json:"folder"`
}

// Prepared is the prepared image that a body is made from.
type Prepared struct {
	Run    string    `json:"run"`
	Number int       `json:"number"`
	Image  string    `json:"image"`
	Digest string    `json:"digest,omitempty"` // what Image meant when it was made
	User   string    `json:"user"`
	MadeAt time.Time `json:"made_at"`
	Behind int       `json:"behind"` // commits
}

// encoded is a plan as it is stored.
type encoded struct {
	plan *Plan
	id   string
	body []byte
}

func (p *Plan) encode() (encoded, error) {
	body, err := json.Marshal(p)
	if err != nil {
		return encoded{}, err
	}
	sum := sha256.Sum256(body)
	return encoded{p, hex.EncodeToString(sum[:]), body}, nil
}

// putPlan writes a plan, unless the same is there already.
func (tx plansWrites) putPlan(ctx context.Context, e encoded) error {
	run := ""
	if e.plan.Prepared != nil {
		run = e.plan.Prepared.Run
	}
	res, err := tx.db.ExecContext(ctx, "INSERT OR IGNORE INTO plans (id, body, prepared_run) VALUES (?, ?, ?)", e.id, string(e.body), run)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return err
	}
	for _, f := range e.plan.fingerprints() {
		if err := tx.exec(ctx, "INSERT OR IGNORE INTO plan_images (fingerprint, plan_id) VALUES (?, ?)", f, e.id); err != nil {
			return err
		}
	}
	return nil
}

// fingerprints are those of all images that a plan has built.
func (p *Plan) fingerprints() (out []string) {
	if p.Fingerprint != "" {
		out = append(out, p.Fingerprint)
	}
	if c := p.Definition.Compose; c != nil {
		for _, s := range c.Services {
			if s.Fingerprint != "" {
				out = append(out, s.Fingerprint)
			}
		}
	}
	return out
}

// dropPlan removes a plan that no workspace has any more.
func (tx plansWrites) dropPlan(ctx context.Context, id string) error {
	if id == "" {
		return nil
	}
	return tx.exec(ctx, "DELETE FROM plans WHERE id = ?1 AND NOT EXISTS (SELECT 1 FROM workspaces WHERE plan_id = ?1 AND plan_id <> '') AND NOT EXISTS (SELECT 1 FROM workspaces WHERE next_plan_id = ?1 AND next_plan_id <> '')", id)
}

// mostPlans bounds the plans that are kept as they were read.
const mostPlans = 4096

// plans keeps plans as they were read: a row never changes.
type plans struct {
	mu sync.RWMutex
	of map[string]*Plan
}

func (p *plans) get(id string) *Plan {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return p.of[id]
}

func (p *plans) put(id string, plan *Plan) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.of == nil || len(p.of) >= mostPlans {
		p.of = map[string]*Plan{} // bounded: it fills again
	}
	p.of[id] = plan
}

// plan reads a plan; that of "" is empty.
func (q plansReads) plan(ctx context.Context, id string) (*Plan, error) {
	if id == "" {
		return &Plan{}, nil
	}
	if p := q.db.plans.get(id); p != nil {
		return p, nil
	}
	p, err := one(ctx, q.reader, func(scan func(...any) error) (*Plan, error) {
		var body string
		if err := scan(&body); err != nil {
			return nil, err
		}
		p := &Plan{}
		return p, json.Unmarshal([]byte(body), p)
	}, "SELECT body FROM plans WHERE id = ?", id)
	if errors.Is(err, ErrNotFound) {
		return nil, errors.New("plan " + id + " is not in the records")
	}
	if err == nil {
		q.db.plans.put(id, p)
	}
	return p, err
}

// ImageInUse tells whether a workspace other than except uses, or is about to
// use, the image with the fingerprint.
func (q plansReads) ImageInUse(ctx context.Context, fingerprint, except string) (used bool, err error) {
	err = q.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM plan_images i JOIN workspaces w ON w.plan_id = i.plan_id AND w.plan_id <> '' WHERE i.fingerprint = ?1 AND w.phase <> 'removed' AND w.id <> ?2)
		OR EXISTS (SELECT 1 FROM plan_images i JOIN workspaces w ON w.next_plan_id = i.plan_id AND w.next_plan_id <> '' WHERE i.fingerprint = ?1 AND w.phase <> 'removed' AND w.id <> ?2)`, fingerprint, except).Scan(&used)
	return used, q.db.seen(err)
}

// PreparedInUse tells whether a workspace other than except is made, or about
// to be made, from a run's image.
func (q plansReads) PreparedInUse(ctx context.Context, run, except string) (used bool, err error) {
	err = q.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM plans p JOIN workspaces w ON w.plan_id = p.id AND w.plan_id <> '' WHERE p.prepared_run = ?1 AND p.prepared_run <> '' AND w.phase <> 'removed' AND w.id <> ?2)
		OR EXISTS (SELECT 1 FROM plans p JOIN workspaces w ON w.next_plan_id = p.id AND w.next_plan_id <> '' WHERE p.prepared_run = ?1 AND p.prepared_run <> '' AND w.phase <> 'removed' AND w.id <> ?2)`, run, except).Scan(&used)
	return used, q.db.seen(err)
}
