package reconcile

import (
	"strings"
	"testing"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/yard"
)

// When a service is as it is needed, and when it never will be.
func TestMet(t *testing.T) {
	for _, c := range []struct {
		condition string
		state     yard.ServiceState
		ok        bool
		problem   string
	}{
		{definition.Started, yard.ServiceState{Body: lifecycle.Created}, false, ""},
		{definition.Started, yard.ServiceState{Body: lifecycle.Running}, true, ""},
		{definition.Started, yard.ServiceState{Body: lifecycle.Ended, ExitCode: 1}, true, ""},
		{definition.Healthy, yard.ServiceState{Body: lifecycle.Running, Health: "starting"}, false, ""},
		{definition.Healthy, yard.ServiceState{Body: lifecycle.Running, Health: "healthy"}, true, ""},
		{definition.Healthy, yard.ServiceState{Body: lifecycle.Running, Health: "unhealthy"}, false, "is not healthy"},
		{definition.Healthy, yard.ServiceState{Body: lifecycle.Running}, false, "nothing says how its health is asked for"},
		{definition.Healthy, yard.ServiceState{Body: lifecycle.Ended, Problem: "out of memory"}, false, "out of memory"},
		{definition.Completed, yard.ServiceState{Body: lifecycle.Running}, false, ""},
		{definition.Completed, yard.ServiceState{Body: lifecycle.Ended}, true, ""},
		{definition.Completed, yard.ServiceState{Body: lifecycle.Ended, ExitCode: 3, Problem: "exit code 3"}, false, "exit code 3"},
	} {
		ok, problem := met(c.condition, c.state)
		if ok != c.ok || (problem == "") != (c.problem == "") || !strings.Contains(problem, c.problem) {
			t.Errorf("%s of %+v: %v, %q", c.condition, c.state, ok, problem)
		}
	}
}
