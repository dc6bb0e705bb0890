package definition

import (
	"slices"
	"strconv"
	"strings"
)

// runOption is what is done with an option of the engine's run command.
type runOption struct {
	flag bool // it has no value
	// ruled: the house rules say by its name whether it may be used; of the
	// others another rule of theirs, or none, says so.
	ruled bool
	take  func(out *Definition, value string) (problem string)
}

func taken(to func(*Definition) *[]string) func(*Definition, string) string {
	return func(out *Definition, value string) string {
		if l := to(out); !slices.Contains(*l, value) {
			*l = append(*l, value)
		}
		return ""
	}
}

func pair(to func(*Definition) *map[string]string) func(*Definition, string) string {
	return func(out *Definition, value string) string {
		k, v, _ := strings.Cut(value, "=")
		m := to(out)
		if *m == nil {
			*m = map[string]string{}
		}
		(*m)[k] = v
		return ""
	}
}

// runOptions are those that are honoured. They are named as the engine's own
// reference names them.
var runOptions = map[string]runOption{
	"init":       {flag: true, take: func(o *Definition, _ string) string { o.Extra.Init = true; return "" }},
	"privileged": {flag: true, take: func(o *Definition, _ string) string { o.Extra.Privileged = true; return "" }},
	"cap-add": {take: func(o *Definition, v string) string {
		return taken(func(d *Definition) *[]string { return &d.Extra.Capabilities })(o, strings.TrimPrefix(strings.ToUpper(v), "CAP_"))
	}},
	"cap-drop": {take: func(o *Definition, v string) string {
		return taken(func(d *Definition) *[]string { return &d.Extra.Dropped })(o, strings.TrimPrefix(strings.ToUpper(v), "CAP_"))
	}},
	"security-opt": {take: taken(func(d *Definition) *[]string { return &d.Extra.Security })},
	"device":       {take: taken(func(d *Definition) *[]string { return &d.Extra.Devices })},
	"network": {take: func(o *Definition, v string) string {
		if v != "host" {
			return "a workspace has a network of its own; only host is another"
		}
		o.Extra.HostNetwork = true
		return ""
	}},
	"user": {take: func(o *Definition, v string) string {
		if o.ContainerUser == "" {
			o.ContainerUser = v
		}
		return ""
	}},
	"env": {take: func(o *Definition, v string) string {
		k, val, ok := strings.Cut(v, "=")
		if !ok || !envName.MatchString(k) {
			return "write NAME=VALUE: nobody's own machine takes part"
		}
		if _, nearer := o.Env[k]; !nearer {
			return pair(func(d *Definition) *map[string]string { return &d.Env })(o, k+"="+val)
		}
		return ""
	}},
	"hostname":  {ruled: true, take: func(o *Definition, v string) string { o.Extra.Hostname = v; return "" }},
	"add-host":  {ruled: true, take: taken(func(d *Definition) *[]string { return &d.Extra.Hosts })},
	"dns":       {ruled: true, take: taken(func(d *Definition) *[]string { return &d.Extra.DNS })},
	"group-add": {ruled: true, take: taken(func(d *Definition) *[]string { return &d.Extra.Groups })},
	"label":     {ruled: true, take: pair(func(d *Definition) *map[string]string { return &d.Extra.Labels })},
	"sysctl":    {ruled: true, take: pair(func(d *Definition) *map[string]string { return &d.Extra.Sysctls })},
	"shm-size": {ruled: true, take: func(o *Definition, v string) (problem string) {
		n, ok := bytesOf(v)
		if !ok {
			return "write it like 256m"
		}
		o.Extra.ShmBytes = n
		return ""
	}},
	"ulimit": {ruled: true, take: func(o *Definition, v string) string {
		name, val, _ := strings.Cut(v, "=")
		soft, _, _ := strings.Cut(val, ":")
		n, err := strconv.ParseInt(soft, 10, 64)
		if name != "nofile" || err != nil || n < 64 {
			return "only nofile can be set, and only lower than usual"
		}
		o.Extra.Nofile = n
		return ""
	}},
}

var (
	shortOptions = map[string]string{"-e": "--env", "-u": "--user", "-h": "--hostname", "-l": "--label", "-v": "--volume", "-p": "--publish", "-m": "--memory", "-w": "--workdir", "--net": "--network"}
	// instead tells what does the same here, of options that are passed over.
	instead = map[string]string{
		"name": "a workspace is named by its person", "restart": "the service keeps it running", "rm": "the service takes it away", "detach": "it runs by itself", "d": "it runs by itself", "it": "terminals are opened by people",
		"i": "terminals are opened by people", "t": "terminals are opened by people", "memory": "the size of the workspace says it", "cpus": "the size of the workspace says it", "cpu-shares": "the size of the workspace says it",
		"memory-swap": "the size of the workspace says it", "publish": "say it in forwardPorts", "workdir": "say it in workspaceFolder", "pull": "the image is fetched when it is not there",
	}
)

// runArgs reads what would be handed to the engine's run command.
func (d layerDoc) runArgs(out *Definition, args []string, v variables) {
	at := d.at("runArgs")
	for i := 0; i < len(args); i++ {
		name, value, given := strings.Cut(v.put(args[i]), "=")
		if long, ok := shortOptions[name]; ok {
			name = long
		}
		name = strings.TrimLeft(name, "-")
		next := func() string {
			if !given && i+1 < len(args) {
				i++
				return v.put(args[i])
			}
			return value
		}
		if why, ok := instead[name]; ok {
			if len(name) > 2 && name != "detach" && name != "rm" {
				next()
			}
			d.rule("not-honoured", Warning, at, "leave it out: "+why, "--%s in runArgs is passed over", name)
			continue
		}
		if name == "volume" || name == "mount" || name == "tmpfs" {
			d.runMount(out, name, next(), v)
			continue
		}
		o, ok := runOptions[name]
		if !ok {
			d.say(Error, at, "leave it out, or use the property that says the same", "%q in runArgs is not honoured here", args[i])
			continue
		}
		if o.flag {
			value = ""
		} else {
			value = next()
		}
		if problem := o.take(out, value); problem != "" {
			d.say(Error, at, problem, "--%s %s in runArgs cannot be honoured", name, value)
		}
		if o.ruled && !slices.Contains(out.Extra.Options, name) {
			out.Extra.Options = append(out.Extra.Options, name)
		}
		d.origin(out, "run."+name, "runArgs")
	}
}

func (d layerDoc) runMount(out *Definition, name, value string, v variables) {
	f := map[string]string{"type": "tmpfs", "target": value}
	switch name {
	case "tmpfs":
		f["target"], _, _ = strings.Cut(value, ":")
	case "mount":
		f, _ = mountFields(value)
	case "volume":
		parts := strings.Split(value, ":")
		f = map[string]string{"source": parts[0], "target": parts[len(parts)-1]}
		if len(parts) > 2 {
			f["target"] = parts[1]
			f["readonly"] = strconv.FormatBool(slices.Contains(strings.Split(parts[2], ","), "ro"))
		}
		if len(parts) == 1 {
			f["source"], f["type"] = "", "volume"
		}
	}
	if m, ok := d.mount("runArgs", f, v); ok {
		out.Mounts = append(out.Mounts, m)
		d.origin(out, "mounts."+m.Target, "runArgs")
	}
}
