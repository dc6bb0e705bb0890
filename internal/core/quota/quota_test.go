package quota

import (
	"math/rand/v2"
	"testing"

	"yardbench/internal/core/rules"
)

// Whatever comes and goes: what was admitted never goes over a limit, and what
// was refused would have.
func TestNeverOver(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		allowed := []rules.Amounts{{}, {}}
		for _, a := range allowed {
			for _, k := range rules.Kinds {
				if r.IntN(3) > 0 {
					a[k] = int64(r.IntN(20))
				}
			}
		}
		used := []rules.Amounts{{}, {}}
		var held []rules.Amounts
		for range 200 {
			if len(held) > 0 && r.IntN(3) == 0 {
				n := r.IntN(len(held))
				for k, v := range held[n] {
					used[0][k] -= v
					used[1][k] -= v
				}
				held = append(held[:n], held[n+1:]...)
				continue
			}
			asked := Launch(rules.Size{CoresMilli: int64(r.IntN(6)), MemoryBytes: int64(r.IntN(6))})
			lines, ok := Admit(asked, Account{"ingrid", used[0], allowed[0]}, Account{"team", used[1], allowed[1]})
			over := false
			for _, l := range lines {
				over = over || l.Over()
			}
			if ok == over {
				t.Fatalf("seed %d: admitted %v with lines %v", seed, ok, lines)
			}
			if !ok {
				continue
			}
			held = append(held, asked)
			for n := range used {
				for k, v := range asked {
					used[n][k] += v
				}
				for k, most := range allowed[n] {
					if used[n][k] > most && asked[k] > 0 {
						t.Fatalf("seed %d: %s used %d of %d", seed, k, used[n][k], most)
					}
				}
			}
		}
	}
}

// A limit that was lowered under what is used refuses more of that kind and
// nothing else; the line says it all.
func TestLines(t *testing.T) {
	lines, ok := Admit(Start(rules.Size{CoresMilli: 1500, MemoryBytes: 2 << 30}), Account{"ingrid", rules.Amounts{rules.Existing: 9, rules.Running: 3, rules.Cores: 2000}, rules.Amounts{rules.Existing: 5, rules.Running: 4, rules.Cores: 3000}})
	if ok || len(lines) != 3 || lines[0].Over() || lines[1].Over() || !lines[2].Over() {
		t.Fatalf("admitted %v: %v", ok, lines)
	}
	if got := lines[2].String(); got != "2 used + 1.5 asked of 3 allowed" {
		t.Errorf("it reads %q", got)
	}
	if _, ok := Admit(Launch(rules.Size{CoresMilli: 1 << 40}), Account{Whose: "nobody's limits"}); !ok {
		t.Error("what is not limited is refused")
	}
}
