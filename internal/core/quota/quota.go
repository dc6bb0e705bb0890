// Package quota decides whether something more may be had, and says why not.
//
// It is part of the core: plain functions over plain values. Whoever asks
// reads the counts and writes the reservation in one transaction.
package quota

import (
	"fmt"

	"yardbench/internal/core/rules"
)

// Account is somebody who may have only so much: a person or a team.
type Account struct {
	Whose         string // for people: "ingrid", "the team Harbour"
	Used, Allowed rules.Amounts
}

// Line is one limit and how the request stands to it. Numbers are counts,
// thousandths of a core, or bytes, by kind.
type Line struct {
	Kind                 rules.Kind
	Whose                string
	Used, Asked, Allowed int64
}

// Over tells whether the request goes over the limit. What asks for nothing
// of a kind is never over it, even where a limit was lowered meanwhile.
func (l Line) Over() bool { return l.Asked > 0 && l.Used+l.Asked > l.Allowed }

// String says the line to people.
func (l Line) String() string {
	n := func(v int64) string { return rules.Amount(l.Kind, v) }
	return fmt.Sprintf("%s used + %s asked of %s allowed", n(l.Used), n(l.Asked), n(l.Allowed))
}

// Admit holds a request against every limit of every account. ok is false
// when one of them is exceeded; the lines tell of all that apply.
func Admit(asked rules.Amounts, accounts ...Account) (lines []Line, ok bool) {
	ok = true
	for _, a := range accounts {
		for _, k := range rules.Kinds {
			allowed, limited := a.Allowed[k]
			if !limited {
				continue
			}
			l := Line{Kind: k, Whose: a.Whose, Used: a.Used[k], Asked: asked[k], Allowed: allowed}
			lines = append(lines, l)
			ok = ok && !l.Over()
		}
	}
	return lines, ok
}

// Launch is what a workspace of a size asks for; Start is what an existing
// one does when it is to run.
func Launch(s rules.Size) rules.Amounts {
	a := Start(s)
	a[rules.Existing] = 1
	return a
}

// Start is what an existing workspace asks for when it is to run.
func Start(s rules.Size) rules.Amounts {
	return rules.Amounts{rules.Running: 1, rules.Cores: s.CoresMilli, rules.Memory: s.MemoryBytes}
}
