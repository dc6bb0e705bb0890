package rules

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Opening is something that rules leave open, and how it is closed.
type Opening struct{ Kind, What, Close string }

// Openings are what the rules leave open, the widest first.
func (r Rules) Openings() (out []Opening) {
	say := func(is bool, kind, what, how string) {
		if is {
			out = append(out, Opening{kind, what, how})
		}
	}
	say(len(r.Limits.Person) == 0 && len(r.Limits.Team) == 0, "no-limits", "anybody may launch any number of workspaces, of any size", "set limits.person")
	open := func(where string, a Allow) {
		var wide []string
		if a.Privileged {
			wide = append(wide, "privileged containers")
		}
		if a.HostNetwork {
			wide = append(wide, "the machine's own network")
		}
		if len(a.HostPaths) > 0 {
			wide = append(wide, "of the machine's paths "+strings.Join(a.HostPaths, ", "))
		}
		if len(a.Devices) > 0 {
			wide = append(wide, "the devices "+strings.Join(a.Devices, ", "))
		}
		if slices.Contains(a.Security, "seccomp=unconfined") {
			wide = append(wide, "every system call")
		}
		say(len(wide) > 0, "allowed", fmt.Sprintf("definitions of %s may have %s: whoever may push there may as well", where, strings.Join(wide, "; ")), "take out of allow what nobody needs")
	}
	open("every repository", r.Allow)
	for _, name := range slices.Sorted(maps.Keys(r.AllowIn)) {
		open(name, r.AllowIn[name])
	}
	say(len(r.Images.From) == 0, "images-from-anywhere", "images come from any registry", "name yours in images.from")
	say(!r.Workspaces.Closed, "workspaces-reach-out", "workspaces reach what the engine lets them reach, of this network too", "workspaces: {network: closed}, where the git host is enough; else rules of the engine's machine, see docs/operating.md")
	say(!r.Workspaces.NoGain, "gain-rights", "a program in a workspace may have more rights than who starts it, as sudo has", "workspaces: {gain_rights: no}, where nobody becomes root")
	say(!r.Workspaces.ConfirmPush, "pushes-unasked", "what runs in a workspace pushes, and signs with its owner's key, unasked", "workspaces: {push: confirmed}, where its owner is to confirm that")
	say(r.Workspaces.OperatorsEnter, "operators-enter", "operators may enter the workspaces of others, with a reason that their owners read: what runs there holds their secrets", "take out workspaces.enter, where nobody needs that")
	say(!r.Builds.Closed, "builds-reach-out", "commands of builds reach what the engine lets them reach", "builds: {network: closed}, where builds fetch nothing")
	say(!r.NoDebugger, "debugger", "root in a workspace may look into the memory of its other processes", "allow: {debugger: no}, where nobody debugs")
	say(r.Ports.PublicMost > 0, "public-ports", "owners may show ports to anybody who comes, for "+Duration(r.Ports.PublicMost), "take out ports.public_most, where nobody needs that")
	say(r.Ports.LookLinksMost > 0, "look-links", "owners may show ports to whoever holds a link, for "+Duration(r.Ports.LookLinksMost), "take out ports.look_links_most, where nobody needs that")
	say(len(r.WebhooksInside) > 0, "webhooks-inside", "webhooks may be sent to "+strings.Join(r.WebhooksInside, ", ")+" within this network", "take out of webhooks_inside what nobody needs")
	return out
}
