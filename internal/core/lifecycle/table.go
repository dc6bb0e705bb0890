package lifecycle

import (
	"fmt"
	"slices"
	"strings"
)

// By says who may make a move.
type By string

// Who may: a person who drives or stops the workspace, the keeper when a step
// is over, the house rules when a time has passed.
const (
	ByPerson By = "a person"
	ByKeeper By = "the keeper"
	ByRules  By = "the house rules"
)

// Allowed is one allowed move, who may make it, and what leads to it.
type Allowed struct {
	From, To Phase
	By       []By
	Cause    string
}

// Table is every allowed move. docs/lifecycle.md is made from it.
var Table = []Allowed{
	{Waiting, Preparing, []By{ByKeeper}, "its image is to be made"},
	{Waiting, Starting, []By{ByKeeper}, "its image is there"},
	{Waiting, Ready, []By{ByKeeper}, "its body runs still, as a stop before has failed"},
	{Waiting, Stopping, []By{ByPerson, ByRules}, "stop"},
	{Waiting, Removing, []By{ByPerson, ByRules}, "remove"},
	{Waiting, Failed, []By{ByKeeper}, "a step failed"},
	{Preparing, Starting, []By{ByKeeper}, "the image is made"},
	{Preparing, Stopping, []By{ByPerson, ByRules}, "stop"},
	{Preparing, Removing, []By{ByPerson, ByKeeper}, "remove; a prebuild run that failed goes by itself"},
	{Preparing, Failed, []By{ByKeeper}, "a step failed"},
	{Starting, Preparing, []By{ByKeeper}, "the image is gone meanwhile, and is made again"},
	{Starting, Ready, []By{ByKeeper}, "the set-up is over, or what is waited for of it"},
	{Starting, Stopping, []By{ByPerson, ByRules}, "stop"},
	{Starting, Removing, []By{ByPerson, ByKeeper}, "remove; a prebuild run goes when it is over"},
	{Starting, Failed, []By{ByKeeper}, "a step failed"},
	{Ready, Preparing, []By{ByKeeper}, "its body ended while a rebuild was making the new one"},
	{Ready, Starting, []By{ByKeeper}, "its body ended while a rebuild was making the new one"},
	{Ready, Stopping, []By{ByPerson, ByRules}, "stop; nobody worked in it for the time of rest; its disk is full"},
	{Ready, Stopped, []By{ByKeeper}, "its body ended by itself, or with its yard"},
	{Ready, Removing, []By{ByPerson, ByRules}, "remove; it was for one command, which is over"},
	{Ready, Failed, []By{ByKeeper}, "a step failed"},
	{Stopping, Stopped, []By{ByKeeper}, "nothing of it runs any more"},
	{Stopping, Removing, []By{ByPerson, ByRules}, "remove; it was for one command, which is over"},
	{Stopping, Failed, []By{ByKeeper}, "the yard does not stop it"},
	{Stopped, Waiting, []By{ByPerson}, "start, rebuild"},
	{Stopped, Ready, []By{ByKeeper}, "others started its adopted container again"},
	{Stopped, Removing, []By{ByPerson, ByRules}, "remove; it was stopped for longer than it is kept; it was for one command, which is over"},
	{Removing, Removed, []By{ByKeeper}, "nothing of it is left in the yard"},
	{Removing, Failed, []By{ByKeeper}, "the yard does not let it go"},
	{Failed, Waiting, []By{ByPerson}, "start, rebuild"},
	{Failed, Stopping, []By{ByPerson}, "stop"},
	{Failed, Removing, []By{ByPerson, ByRules}, "remove; it was for one command, which is over"},
}

// Phases are all of them, in the order of a life.
var Phases = []Phase{Waiting, Preparing, Starting, Ready, Stopping, Stopped, Removing, Removed, Failed}

// Next tells which phases may come after one, in the order of the table.
func (p Phase) Next() (out []Phase) {
	for _, a := range Table {
		if a.From == p {
			out = append(out, a.To)
		}
	}
	return out
}

// MayBy tells whether a workspace may go from one phase to another, moved by a
// person, or else by the service itself.
func MayBy(from, to Phase, person bool) bool {
	return slices.ContainsFunc(Table, func(a Allowed) bool {
		return a.From == from && a.To == to && (slices.Contains(a.By, ByPerson) == person || len(a.By) > 1)
	})
}

// about tells what each phase means.
var about = map[Phase]string{
	Waiting: "accepted, its limits reserved; the keeper comes to it", Preparing: "its image is fetched or built", Starting: "its network, volume and container are made, its repository cloned, its set-up run",
	Ready: "it can be used", Stopping: "its processes are asked to end", Stopped: "nothing of it runs; its files are kept", Removing: "everything of it is taken out of the yard", Removed: "only its records are left",
	Failed: "a step failed, and its cause is kept with the phase it failed in; start tries again",
}

// Conditions tells what each condition means, and what ends it.
var Conditions = []struct {
	Kind        ConditionKind
	Means, Ends string
}{
	{Rebuilding, "a new body is made beside the one in use", "the new one takes over, or cannot be made"},
	{Adopted, "its container was started by others, and taken on", "it is let go"},
	{RebuildDue, "the definition at the branch's head is another than the one it was built from", "a rebuild"},
	{SetUpFailed, "a set-up command or a service failed; it can be used all the same", "a rebuild"},
	{OutOfMemory, "something in it was ended, as it wanted more memory than its size has", "an hour without another, or a stop"},
	{DiskFull, "what is written in it fails, as there is no room left", "room is made, or a stop"},
	{Errand, "it was launched for one command", "it is removed after that"},
	{Notice, "somebody has put a word before its owner", "the owner has read it"},
	{PushWaits, "something in it wanted to push, and its owner has not allowed it", "the owner allows or refuses it, or a stop"},
	{PushAllowed, "its owner allowed what is in it to push", "a quarter of an hour goes by, or the owner ends it, or a stop"},
	{SecretAsked, "a program in it waits for a secret", "the secret is given, the program gives up, or a stop"},
	{WaitsForYard, "the yard does not answer; what was asked for is kept", "the yard answers, and it is done"},
	{StewardAway, "its steward is not connected", "it connects again"},
	{IdleNow, "nobody has worked in it for a while", "a sign of work"},
	{Held, "somebody keeps it from being put to rest", "the hold ends"},
	{SecretsChanged, "something that runs in it has an older value of a secret", "that ends"},
	{UnpushedWork, "it is not removed, as work in it exists nowhere else", "the work is pushed or given up"},
	{OverLimit, "its files are larger than its disk", "room is made"},
}

// Document is docs/lifecycle.md: the tables above for people, with a diagram
// in Mermaid's form.
func Document() string {
	var b strings.Builder
	b.WriteString("# A workspace's life\n\nMade from the table in internal/core/lifecycle by `make generate`; do not change it by hand.\n\n```mermaid\nstateDiagram-v2\n  [*] --> waiting\n")
	for _, a := range Table {
		fmt.Fprintf(&b, "  %s --> %s\n", a.From, a.To)
	}
	b.WriteString("  removed --> [*]\n```\n\n## Phases\n\n| phase | meaning | possible then |\n|---|---|---|\n")
	for _, p := range Phases {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", p, about[p], strings.Join(can(p, false), ", "))
	}
	b.WriteString("\nA verb that is not possible in a phase is answered 409 with those that are. A container that was taken on is let go where one of ours would be removed, and is not rebuilt: it passes from `waiting` to `starting`, and on as ours do.\n\n## Moves\n\nEach is written in one transaction with its journal entry; any other is refused by the store.\n\n| from | to | by | when |\n|---|---|---|---|\n")
	for _, a := range Table {
		by := make([]string, len(a.By))
		for i, x := range a.By {
			by[i] = string(x)
		}
		fmt.Fprintf(&b, "| `%s` | `%s` | %s | %s |\n", a.From, a.To, strings.Join(by, ", "), a.Cause)
	}
	b.WriteString("\n## Conditions\n\nThey stand beside a phase, each with a reason and since when.\n\n| condition | meaning | ended by |\n|---|---|---|\n")
	for _, c := range Conditions {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", c.Kind, c.Means, c.Ends)
	}
	return b.String()
}
