package definition

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yardbench/internal/core/plain"
	"yardbench/internal/core/rules"
)

// unfiltered turns the engine's filter of system calls off. It is what many
// definitions write beside a debugger, and none needs: since Linux 4.8 the
// usual filter lets a debugger pass.
const unfiltered = "seccomp=unconfined"

// Permit holds a definition against the house rules: what it uses beyond the
// usual must be allowed for its repository. What comes back is what may be
// used: without what is passed over.
func Permit(d Definition, repository string, house rules.Rules) (may Definition, out []Finding) {
	allow := house.AllowFor(repository)
	refuse := func(what, rule, key string) {
		file, line, column := d.placeOf(key)
		out = append(out, Finding{Severity: Error, Path: file, Line: line, Column: column, What: plain.Text(what) + " is closed by the house rules", Rule: "closed", Why: Rules["closed"],
			Fix: "do without, or ask an operator to open it: allow.repositories." + repository + "." + rule})
	}
	filtered := func(e *Extra) {
		if !slices.Contains(allow.Security, unfiltered) {
			e.Security = slices.DeleteFunc(slices.Clone(e.Security), func(s string) bool { return s == unfiltered })
		}
	}
	judge := func(e Extra, mounts []Mount, service, who string) {
		say := func(what, rule, name string) { refuse(what+who, rule, d.extraOrigin(service, name)) }
		if e.Privileged && !allow.Privileged {
			say("privileged", "privileged", "privileged")
		}
		if e.HostNetwork && !allow.HostNetwork {
			say("the host's network", "host_network", "host_network")
		}
		for _, c := range e.Capabilities {
			if !slices.Contains(allow.Capabilities, c) {
				say("the capability "+c, "capabilities", "capabilities."+c)
			}
		}
		for _, s := range e.Security {
			if s == unfiltered && !slices.Contains(allow.Security, s) {
				file, line, column := d.placeOf(d.extraOrigin(service, "security."+s))
				out = append(out, Finding{Severity: Note, Path: file, Line: line, Column: column, What: plain.Text(s) + who + " is passed over", Rule: "not-honoured", Why: Rules["not-honoured"],
					Fix: "leave it out: a debugger works with the usual filter of system calls"})
			} else if !harmless(s) && !slices.Contains(allow.Security, s) {
				say("the security option "+s, "security", "security."+s)
			}
		}
		for _, dev := range e.Devices {
			if host, _, _ := strings.Cut(dev, ":"); !slices.Contains(allow.Devices, host) {
				say("the device "+host, "devices", "devices."+dev)
			}
		}
		for _, o := range e.Options {
			if !slices.Contains(allow.RunOptions, o) {
				refuse("the run option "+o+who, "run_options", cmp.Or(nonempty(d.Origins, "run."+o), d.extraOrigin(service, map[string]string{"dns": "dns", "group-add": "groups", "sysctl": "sysctls"}[o])))
			}
		}
		for _, m := range mounts {
			// The very path: beneath one that a workspace may write to, another
			// could have put a link, which the engine would follow.
			if m.Kind == MountHost && !slices.Contains(allow.HostPaths, m.Source) {
				refuse("the host's "+m.Source+who, "host_paths", cmp.Or(nonempty(d.Origins, "mounts."+m.Target), "service "+service+".volumes"))
			}
		}
	}
	judge(d.Extra, d.Mounts, d.service(), "")
	if d.Compose != nil {
		for _, s := range d.Compose.Services {
			judge(s.Extra, s.Mounts, s.Name, " of service "+s.Name)
		}
	}
	may = d
	filtered(&may.Extra)
	if d.Compose != nil {
		c := *d.Compose
		c.Services = slices.Clone(c.Services)
		for i := range c.Services {
			filtered(&c.Services[i].Extra)
		}
		may.Compose = &c
	}
	for _, image := range d.Images() {
		if !house.Images.May(image) {
			file, line, column := d.placeOf("image")
			out = append(out, Finding{Severity: Error, Path: file, Line: line, Column: column, What: fmt.Sprintf("image %q comes from where the house rules do not allow", plain.Text(image)),
				Rule: "closed", Why: Rules["closed"], Fix: "use one from: " + strings.Join(house.Images.From, ", ")})
		}
	}
	return may, out
}

var placeForm = regexp.MustCompile(`^(.*):(\d+):(\d+)$`)

// placeOf is where a value of the result stands, as its origin tells.
func (d Definition) placeOf(key string) (file string, line, column int) {
	m := placeForm.FindStringSubmatch(d.Origins[key])
	if m == nil {
		return d.Path, 0, 0
	}
	line, _ = strconv.Atoi(m[2])
	column, _ = strconv.Atoi(m[3])
	return m[1], line, column
}

// harmless tells of security options that only take rights away.
func harmless(s string) bool {
	return s == "no-new-privileges" || s == "no-new-privileges:true" || s == "no-new-privileges=true"
}
