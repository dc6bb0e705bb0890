package sim

import (
	"context"
	"fmt"
	"io"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// StartService implements [yard.Server].
func (y *Yard) StartService(ctx context.Context, s yard.ServiceSpec) error {
	return y.do(ctx, Start, s.Workspace, func() error {
		w := y.of(s.Workspace)
		if w.Services[s.Number] == nil {
			w.Services[s.Number] = services{}
		}
		name(w, s.Service.Mounts)
		old := w.Services[s.Number][s.Service.Name]
		if old != nil && old.State.Body == lifecycle.Running {
			return nil
		}
		v := &service{Spec: s, State: yard.ServiceState{Body: lifecycle.Running}}
		out, code, ends := run(append(append([]string{}, s.Service.Entrypoint...), s.Service.Command...), s.Service.Env, nil)
		if v.Log = out; ends && code != 0 {
			v.State = yard.ServiceState{Body: lifecycle.Ended, ExitCode: code, Problem: fmt.Sprintf("exit code %d", code)}
		} else if s.Service.Health != nil {
			v.State.Health = "healthy"
		}
		if old != nil {
			v.Log = old.Log + v.Log
		}
		w.Services[s.Number][s.Service.Name] = v
		return nil
	})
}

// ServiceLog implements [yard.Server].
func (y *Yard) ServiceLog(_ context.Context, id string, n int, service string, _ int, to io.Writer) error {
	y.mu.Lock()
	defer y.mu.Unlock()
	if w := y.has[id]; w != nil && w.Services[n][service] != nil {
		_, err := io.WriteString(to, w.Services[n][service].Log)
		return err
	}
	return yard.Refused("read the service's log: there is none")
}

type services map[string]*service

type service struct {
	Spec  yard.ServiceSpec  `json:"spec"`
	State yard.ServiceState `json:"state"`
	Log   string            `json:"log"`
}
