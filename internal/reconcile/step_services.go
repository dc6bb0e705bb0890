package reconcile

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// servicesStep starts what stands beside the body.
type servicesStep struct{ *doing }

// serviceTimeout bounds how long a service is waited for.
const serviceTimeout = 10 * time.Minute

// do starts the services beside a body, each when those it needs are as
// it needs them, and waits for those that the workspace needs. One that cannot
// be had is told like a failed set-up: the workspace comes up all the same, so
// that its person can look.
func (d servicesStep) do(ctx context.Context) error {
	plan := d.w.Target()
	c := plan.Definition.Compose
	server, err := yard.Able[yard.Server](d.yard, "runs no services beside a workspace")
	if err != nil {
		return err
	}
	house, _, err := d.house.Rules(ctx, d.store.Read())
	if err != nil {
		return err
	}
	parts := map[string]store.Step{}
	for _, s := range c.Services {
		began := time.Now()
		part := yard.Progress{ID: s.Name, Title: "service " + s.Name, StartedAt: &began}
		d.subStep(ctx, parts, part)
		err := d.awaitServices(ctx, s.Name, s.Needs)
		if err == nil {
			fmt.Fprintf(d.log, "starting service %s\n", s.Name)
			err = tryWhole(ctx, yardTimeout, func(ctx context.Context) error {
				return server.StartService(ctx, d.serviceSpec(plan, s, house.Workspaces.NoGain))
			})
		}
		now := time.Now()
		if part.EndedAt = &now; err != nil {
			part.Err = err.Error()
		}
		d.subStep(ctx, parts, part)
		if err != nil {
			return d.serviceProblem(ctx, s.Name, err)
		}
	}
	if err := d.awaitServices(ctx, c.Work, c.Needs); err != nil {
		return d.serviceProblem(ctx, c.Work, err)
	}
	return nil
}

func (d servicesStep) serviceProblem(ctx context.Context, name string, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: service %s: %s", errSetUp, name, err)
}

func (d servicesStep) serviceSpec(plan *store.Plan, s definition.Service, noGain bool) yard.ServiceSpec {
	def := plan.Definition
	within, err := filepath.Rel(def.Mountpoint(), def.TreeFolder())
	if err != nil || within == "." {
		within = ""
	}
	least := func(own, whole int64) int64 {
		if own > 0 && (own < whole || whole == 0) {
			return own
		}
		return whole
	}
	return yard.ServiceSpec{Workspace: d.w.ID, Number: d.body, Volume: d.volume, Tree: within, Image: plan.ServiceImages[s.Name], Service: s, DiskBytes: d.w.DiskBytes / named(def), Share: share(d.w), NoGain: noGain,
		CoresMilli: least(s.CoresMilli, d.w.CoresMilli), MemoryBytes: least(s.MemoryBytes, d.w.MemoryBytes)}
}

// awaitServices waits until services are as somebody needs them.
func (d servicesStep) awaitServices(ctx context.Context, who string, needs []definition.Need) error {
	ctx, cancel := context.WithTimeout(ctx, serviceTimeout)
	defer cancel()
	told := map[string]bool{}
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		o, err := d.yard.Observe(ctx, d.w.ID)
		if err != nil {
			return err
		}
		waiting := ""
		for _, n := range needs {
			state, there := o.Services[d.body][n.Service]
			if !there {
				continue // the workspace itself, which runs, or one that is not wanted
			}
			ok, problem := met(n.Condition, state)
			if problem != "" {
				return fmt.Errorf("%s waits for %s, and %s%s", who, n.Service, problem, d.lastOf(ctx, n.Service))
			}
			if !ok {
				waiting = n.Service + " to be " + strings.TrimPrefix(n.Condition, "service_")
				if !told[waiting] {
					told[waiting] = true
					fmt.Fprintf(d.log, "%s waits for %s\n", who, waiting)
				}
			}
		}
		if waiting == "" {
			return nil
		}
		select {
		case <-ctx.Done():
			if ctx.Err() == context.DeadlineExceeded {
				return fmt.Errorf("%s waited %s for %s in vain", who, serviceTimeout, waiting)
			}
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

// met tells whether a service is as it is needed, or never will be.
func met(condition string, s yard.ServiceState) (ok bool, problem string) {
	switch condition {
	case definition.Completed:
		if s.Body == lifecycle.Ended && s.ExitCode != 0 {
			return false, "it ended with " + s.Problem
		}
		return s.Body == lifecycle.Ended, ""
	case definition.Healthy:
		switch {
		case s.Body == lifecycle.Ended:
			return false, "it ended: " + s.Problem
		case s.Health == "unhealthy":
			return false, "it is not healthy"
		case s.Health == "" && s.Body == lifecycle.Running:
			return false, "nothing says how its health is asked for"
		}
		return s.Health == "healthy", ""
	}
	return s.Body == lifecycle.Running || s.Body == lifecycle.Ended, ""
}

// lastOf is the last line that a service printed, as part of a message.
func (d servicesStep) lastOf(ctx context.Context, service string) string {
	var b bytes.Buffer
	server, ok := d.yard.(yard.Server)
	if !ok || server.ServiceLog(ctx, d.w.ID, d.body, service, 20, &b) != nil {
		return ""
	}
	fmt.Fprintf(d.log, "-- the log of %s\n%s\n", service, b.String())
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	if last := lines[len(lines)-1]; last != "" {
		return "; its last line: " + last
	}
	return ""
}
