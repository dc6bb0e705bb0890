package service

import (
	"errors"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/page"
	"yardbench/internal/fault"
	"yardbench/internal/githost"
	"yardbench/internal/repo"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

func invalid(detail, next string, do ...fault.Action) *fault.Fault {
	return &fault.Fault{Class: fault.Invalid, Kind: "invalid", Detail: detail, Next: next, Actions: do}
}

// invalidAs is invalid with a kind of its own.
func invalidAs(kind, detail, next string, do ...fault.Action) *fault.Fault {
	f := invalid(detail, next, do...)
	f.Kind = kind
	return f
}

func notFound(what, name, next string, do ...fault.Action) error {
	if name != "" {
		what += " " + quote(name)
	}
	return &fault.Fault{Class: fault.Missing, Kind: "not-found", Detail: "there is no " + what, Next: next, Actions: do}
}

func conflict(kind, detail, next string, do ...fault.Action) *fault.Fault {
	return &fault.Fault{Class: fault.Conflict, Kind: kind, Detail: detail, Next: next, Actions: do}
}

func forbidden(detail, next string) *fault.Fault {
	return &fault.Fault{Class: fault.Denied, Kind: "forbidden", Detail: detail, Next: next}
}

func stranger(kind, detail, next string, do ...fault.Action) error {
	return &fault.Fault{Class: fault.Stranger, Kind: kind, Detail: detail, Next: next, Actions: do}
}

func away(kind, detail, next string) *fault.Fault {
	return &fault.Fault{Class: fault.Away, Kind: kind, Detail: detail, Next: next}
}

// at says of a refusal which part of what was asked is meant, by its JSON Pointer.
func at(f *fault.Fault, pointer, detail string) *fault.Fault {
	f.Parts = append(f.Parts, fault.Part{Field: pointer, Detail: detail})
	return f
}

func quote(s string) string {
	if len(s) > 80 {
		s = s[:80] + "…"
	}
	return "“" + s + "”"
}

// fromRoom puts the errors of the rooms beneath into a fault.
func fromRoom(err error) error {
	var now lifecycle.NotNow
	var rp repo.Problem
	var signIn repo.SignIn
	var refused outside.Refused
	var order page.NoOrder
	var mark page.NoMark
	switch {
	case errors.As(err, &order):
		return invalidAs("unknown-word", order.Error(), "")
	case errors.As(err, &mark):
		return invalidAs("unknown-mark", mark.Error(), "")
	case errors.As(err, &refused):
		return invalid(refused.Error(), "")
	case errors.As(err, &now):
		return conflict("not-now", now.Error(), "")
	case errors.As(err, &signIn) && signIn.Lacks != "":
		return invalid(signIn.What, signIn.Next, map[repo.Lacks]fault.Action{
			repo.LacksCredential: fault.Do("put-git-credential", signIn.Host),
			repo.LacksConnection: fault.Do("begin-git-host", signIn.Host),
			repo.LacksKey:        fault.Do("put-git-key", ""),
			repo.LacksKeyThere:   fault.Do("show-git-key", ""),
		}[signIn.Lacks])
	case errors.As(err, &rp):
		return invalid(rp.What, rp.Next)
	case errors.Is(err, outside.ErrAway):
		return away("steward-away", err.Error(), "try again in a moment; if it stays away, stop the workspace and start it")
	case errors.Is(err, githost.ErrAway):
		return away("git-host-away", err.Error(), "try again when it answers")
	case errors.Is(err, yard.ErrAway):
		return away("yard-away", err.Error(), "try again when it answers")
	case errors.Is(err, yard.ErrRefused):
		return conflict("yard-refuses", err.Error(), "")
	case errors.Is(err, store.ErrBusy):
		return away("busy", err.Error(), "")
	}
	return err
}
