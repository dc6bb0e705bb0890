package service

import (
	"bytes"
	"context"
	"strings"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/store"
	"yardbench/internal/wire"
	"yardbench/internal/yard"
)

// Services tells of the services beside a workspace, in the order in which
// they start.
func (s *Service) Services(ctx context.Context, a Actor, ref string) ([]wire.Service, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	out := []wire.Service{}
	c := w.Plan.Definition.Compose
	if c == nil {
		return out, nil
	}
	o, err := s.Keeper.Yard.Observe(ctx, w.ID)
	if err != nil {
		return nil, fromRoom(err)
	}
	for _, v := range c.Services {
		x := wire.Service{Name: v.Name, Image: v.Image, Ports: append([]int{}, v.Ports...), Needs: []string{}, State: "absent"}
		if v.Build != nil {
			x.Image = v.Build.Dockerfile
		}
		for _, n := range v.Needs {
			x.Needs = append(x.Needs, n.Service+" "+strings.TrimPrefix(n.Condition, "service_"))
		}
		if state, ok := o.Services[w.Body][v.Name]; ok {
			if x.State, x.Problem = serviceState(state); w.Phase == lifecycle.Stopped && state.Body == lifecycle.Ended {
				x.State, x.Problem = "ended", "" // it was stopped with the workspace
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// serviceState is how a service stands, in a word, and why it ended badly.
func serviceState(s yard.ServiceState) (state, problem string) {
	switch {
	case s.Body == lifecycle.Created:
		return "made", ""
	case s.Body == lifecycle.Ended && s.ExitCode == 0:
		return "ended", ""
	case s.Body == lifecycle.Ended:
		return "failed", s.Problem
	case s.Health != "":
		return s.Health, ""
	}
	return "running", ""
}

// serviceLogLines bounds what is shown of a service's log.
const serviceLogLines = 2000

// ServiceLog gives the newest lines of a service's log.
func (s *Service) ServiceLog(ctx context.Context, a Actor, ref, name string) ([]byte, error) {
	w, err := s.find(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	if !hasService(w, name) {
		return nil, invalid("beside "+quote(w.Name)+" there is no service "+quote(name), "see them with: yardbench services "+w.Name)
	}
	var out bytes.Buffer
	if err := s.Keeper.Yard.ServiceLog(ctx, w.ID, w.Body, name, serviceLogLines, &out); err != nil {
		return nil, fromRoom(err)
	}
	return out.Bytes(), nil
}

func hasService(w store.Workspace, name string) bool {
	if c := w.Plan.Definition.Compose; c != nil {
		for _, v := range c.Services {
			if v.Name == name {
				return true
			}
		}
	}
	return false
}
