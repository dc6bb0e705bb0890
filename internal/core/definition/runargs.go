package definition

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// runOption is what is done with an option of the engine's run command.
type runOption struct {
	flag bool // it has no value, or true or false
	// ruled: the house rules say by its name whether it may be used; of the
	// others another rule of theirs, or none, says so.
	ruled bool
	// take puts it into out, and gives the key of its origin. A problem is why
	// it is passed over.
	take func(out *Definition, value string) (key, problem string)
}

// collect adds a value to a list, once.
func collect(to *[]string, value string) {
	if !slices.Contains(*to, value) {
		*to = append(*to, value)
	}
}

// assign puts a pair NAME=VALUE into a map.
func assign(to *map[string]string, pair string) {
	k, v, _ := strings.Cut(pair, "=")
	if *to == nil {
		*to = map[string]string{}
	}
	(*to)[k] = v
}

func capability(name string) string { return strings.TrimPrefix(strings.ToUpper(name), "CAP_") }

// runOptions are those that are honoured. They are named as the engine's own
// reference names them.
var runOptions = map[string]runOption{
	"init": {flag: true, take: func(o *Definition, v string) (string, string) { o.Extra.Init = v != "false"; return "extra.init", "" }},
	"privileged": {flag: true, take: func(o *Definition, v string) (string, string) {
		o.Extra.Privileged = v != "false"
		return "extra.privileged", ""
	}},
	"cap-add": {take: func(o *Definition, v string) (string, string) {
		collect(&o.Extra.Capabilities, capability(v))
		return "extra.capabilities." + capability(v), ""
	}},
	"cap-drop": {take: func(o *Definition, v string) (string, string) {
		collect(&o.Extra.Dropped, capability(v))
		return "extra.dropped." + capability(v), ""
	}},
	"security-opt": {take: func(o *Definition, v string) (string, string) {
		collect(&o.Extra.Security, v)
		return "extra.security." + v, ""
	}},
	"device": {take: func(o *Definition, v string) (string, string) {
		collect(&o.Extra.Devices, v)
		return "extra.devices." + v, ""
	}},
	"network": {take: func(o *Definition, v string) (string, string) {
		if v != "host" {
			return "", "a workspace has a network of its own"
		}
		o.Extra.HostNetwork = true
		return "extra.host_network", ""
	}},
	"user": {take: func(o *Definition, v string) (string, string) {
		if !userName.MatchString(v) {
			return "", "that is no user name"
		}
		if o.ContainerUser == "" {
			o.ContainerUser = v
		}
		return "container_user", ""
	}},
	"env": {take: func(o *Definition, v string) (string, string) {
		k, _, ok := strings.Cut(v, "=")
		if !ok || !variableName(k) {
			return "", "write NAME=VALUE: nobody's own machine takes part"
		}
		if _, nearer := o.Env[k]; !nearer {
			assign(&o.Env, v)
		}
		return "env." + k, ""
	}},
	"hostname": {take: func(o *Definition, v string) (string, string) { o.Extra.Hostname = v; return "extra.hostname", "" }},
	"add-host": {take: func(o *Definition, v string) (string, string) {
		collect(&o.Extra.Hosts, v)
		return "extra.hosts." + v, ""
	}},
	"label": {take: func(o *Definition, v string) (string, string) {
		assign(&o.Extra.Labels, v)
		k, _, _ := strings.Cut(v, "=")
		return "extra.labels." + k, ""
	}},
	"dns": {ruled: true, take: func(o *Definition, v string) (string, string) { collect(&o.Extra.DNS, v); return "extra.dns." + v, "" }},
	"group-add": {ruled: true, take: func(o *Definition, v string) (string, string) {
		collect(&o.Extra.Groups, v)
		return "extra.groups." + v, ""
	}},
	"sysctl": {ruled: true, take: func(o *Definition, v string) (string, string) {
		assign(&o.Extra.Sysctls, v)
		k, _, _ := strings.Cut(v, "=")
		return "extra.sysctls." + k, ""
	}},
	"shm-size": {take: func(o *Definition, v string) (string, string) {
		n, ok := bytesOf(v)
		if !ok {
			return "", "write it like 256m"
		}
		o.Extra.ShmBytes = n
		return "extra.shm", ""
	}},
	"ulimit": {take: func(o *Definition, v string) (string, string) {
		name, val, _ := strings.Cut(v, "=")
		soft, _, _ := strings.Cut(val, ":")
		n, err := strconv.ParseInt(soft, 10, 64)
		if name != "nofile" || err != nil || n < 64 || n > maxNofile {
			return "", fmt.Sprintf("only nofile can be set, from 64 to %d", maxNofile)
		}
		o.Extra.Nofile = n
		return "extra.nofile", ""
	}},
}

var (
	shortOptions = map[byte]string{'a': "attach", 'c': "cpu-shares", 'd': "detach", 'e': "env", 'h': "hostname", 'i': "interactive", 'l': "label", 'm': "memory", 'p': "publish", 'P': "publish-all", 'q': "quiet", 't': "tty", 'u': "user", 'v': "volume", 'w': "workdir"}
	otherNames   = map[string]string{"net": "network", "dns-opt": "dns-option", "net-alias": "network-alias"}
	// flags have no value of their own, beside those of runOptions.
	flags = []string{"detach", "disable-content-trust", "help", "interactive", "no-healthcheck", "oom-kill-disable", "publish-all", "quiet", "read-only", "rm", "sig-proxy", "tty", "use-api-socket"}
	// instead tells what does the same here, of options that are passed over.
	instead = map[string]string{
		"name": "a workspace is named by its person", "restart": "the service keeps it running", "rm": "the service takes it away", "detach": "it runs by itself",
		"interactive": "terminals are opened by people", "tty": "terminals are opened by people", "memory": "the size of the workspace says it", "cpus": "the size of the workspace says it",
		"cpu-shares": "the size of the workspace says it", "memory-swap": "the size of the workspace says it", "memory-reservation": "the size of the workspace says it", "pids-limit": "the size of the workspace says it",
		"publish": "say it in forwardPorts", "publish-all": "say it in forwardPorts", "expose": "say it in forwardPorts", "workdir": "say it in workspaceFolder", "pull": "the image is fetched when it is not there",
		"gpus": "no yard offers one", "env-file": "say it in containerEnv, or ask for it in secrets", "platform": "an image is for the yard's own processor",
		"ipc": "a workspace has memory of its own, and --shm-size makes it larger", "pid": "a workspace sees its own processes", "entrypoint": "say it with overrideCommand and in the image",
	}
)

// maxNofile bounds the open files of a container: engines let it have as many
// anyway, and no definition raises that.
const maxNofile = 1 << 20

// MaxRunArgs bounds the words of runArgs.
const MaxRunArgs = 1000

// runArg is one option as it is written.
type runArg struct {
	name, value string
	at          int // which word it begins at
}

// runWords reads words as the engine's run command does: --name=value, --name
// value, -n value, -nvalue, and short flags together, as in -it. What is no
// option has no name.
func runWords(words []string) (out []runArg) {
	isFlag := func(name string) bool { return runOptions[name].flag || slices.Contains(flags, name) }
	for i := 0; i < len(words); i++ {
		w, at := words[i], i
		apart := func(name string) string { // an option nobody knows has a value if what follows is no option
			_, known := runOptions[name]
			_, passed := instead[name]
			if i+1 < len(words) && (known || passed || !strings.HasPrefix(words[i+1], "-")) {
				i++
				return words[i]
			}
			return ""
		}
		switch {
		case strings.HasPrefix(w, "--"):
			name, value, given := strings.Cut(w[2:], "=")
			name = cmp.Or(otherNames[name], name)
			if !given && !isFlag(name) {
				value = apart(name)
			}
			out = append(out, runArg{name, value, at})
		case len(w) > 1 && w[0] == '-':
			for j := 1; j < len(w); j++ {
				name := cmp.Or(shortOptions[w[j]], w[j:j+1])
				if isFlag(name) {
					out = append(out, runArg{name, "", at})
					continue
				}
				value := strings.TrimPrefix(w[j+1:], "=")
				if w[j+1:] == "" {
					value = apart(name)
				}
				out = append(out, runArg{name, value, at})
				break
			}
		default:
			out = append(out, runArg{"", w, at})
		}
	}
	return out
}

// runArgs reads what would be handed to the engine's run command. What is not
// honoured is passed over and told: an option is for comfort more often than
// not, and what matters shows soon.
func (d layerDoc) runArgs(out *Definition, words []string, v variables) {
	if len(words) > MaxRunArgs {
		d.say(Error, d.at("runArgs"), "take some out", "runArgs has %d words; at most %d are allowed", len(words), MaxRunArgs)
		return
	}
	put := make([]string, len(words))
	for i, w := range words {
		put[i] = v.put(w)
	}
	for _, a := range runWords(put) {
		element := strconv.Itoa(a.at)
		pass := func(why, format string, args ...any) {
			fix := "leave it out"
			if why != "" {
				fix += ": " + why
			}
			d.rule("not-honoured", Warning, d.at("runArgs", element), fix, format, args...)
		}
		switch o, known := runOptions[a.name]; {
		case a.name == "":
			pass("", "%q in runArgs is no option, and is passed over", a.value)
		case a.name == "volume" || a.name == "mount" || a.name == "tmpfs":
			d.runMount(out, a.name, a.value, element, v)
		case !known:
			pass(instead[a.name], "--%s in runArgs is passed over", a.name)
		default:
			key, problem := o.take(out, a.value)
			if problem != "" {
				pass(problem, "--%s %s in runArgs is passed over", a.name, a.value)
				continue
			}
			if o.ruled {
				collect(&out.Extra.Options, a.name)
				d.origin(out, "run."+a.name, "runArgs", element)
			}
			d.origin(out, key, "runArgs", element)
		}
	}
}

func (d layerDoc) runMount(out *Definition, name, value, element string, v variables) {
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
	if m, ok := d.mount("runArgs", d.at("runArgs", element), f, v); ok {
		out.Mounts = append(out.Mounts, m)
		d.origin(out, "mounts."+m.Target, "runArgs", element)
	}
}
