// Package bench computes what the work area in the browser does in a workspace:
// which program serves which language, which adapter debugs, how its editor
// writes, and what a definition says of all that in its customizations. It
// touches nothing.
package bench

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/tailscale/hujson"

	"yardbench/internal/core/plain"
)

// Bench is what holds in one workspace.
type Bench struct {
	Editor Editor
	// PassedOver are settings of editors, from any section of the customizations, that
	// mean nothing here.
	PassedOver     []string
	Languages      []Language
	Adapters       []Adapter
	Configurations []Configuration
	// Problems are what of the customizations is not understood.
	Problems []string
}

// Editor is how files are written. What is not said is zero.
type Editor struct {
	TabSize                           int
	Tabs                              *bool // indent by tabs
	Rulers                            []int
	Trim, FinalNewline, FormatsOnSave bool
}

// Language is one that a program may serve, by the Language Server Protocol.
type Language struct {
	ID       string     // as the protocol has it
	Files    []string   // patterns of names
	Programs [][]string // the first that is there serves
	Package  string     // what brings the first, in Debian's words; "" where none does
	Own      bool       // the definition says it
}

// Adapter is a program that debugs, by the Debug Adapter Protocol over its standard
// input and output.
type Adapter struct {
	ID      string
	Command []string
	Test    []string // ends with 0 where the adapter is there; without it, that the program is
	Package string   // as a language's
	Own     bool
}

// Configuration is one way to begin debugging.
type Configuration struct {
	Name, Adapter string
	Request       string         // launch or attach
	With          map[string]any // what the adapter takes, in its own words
	Port          int            // where an adapter listens already, on the workspace's loopback; 0 where one is begun
	Found         bool           // it was made of what the tree holds
}

// Bounds of what a definition may say.
const (
	maxOwn    = 32
	maxWords  = 64
	maxName   = 80
	maxRulers = 4
)

// ours names our section in the customizations.
const ours = "yardbench"

var (
	idForm      = regexp.MustCompile(`^[a-z][a-z0-9+#._-]{0,39}$`)
	patternForm = regexp.MustCompile(`^[^/\x00]{1,80}$`)
)

// Read says what holds with a definition's text (JSON with comments); without a text,
// what is usual. It fails where the text is no object.
func Read(text []byte) (Bench, error) {
	b := Bench{Languages: slices.Clone(usualLanguages), Adapters: slices.Clone(usualAdapters)}
	if len(text) == 0 {
		return b, nil
	}
	clean, err := hujson.Standardize(slices.Clone(text))
	if err != nil {
		return b, errors.New("the definition is no JSON with comments")
	}
	var d struct {
		Customizations map[string]json.RawMessage `json:"customizations"`
	}
	if err := json.Unmarshal(clean, &d); err != nil {
		return b, errors.New("the definition is no object, or its customizations are none")
	}
	for _, section := range slices.Sorted(maps.Keys(d.Customizations)) {
		if section != ours {
			b.others(d.Customizations[section])
		}
	}
	if text, ok := d.Customizations[ours]; ok { // over what others say
		b.own(text)
	}
	return b, nil
}

func (b *Bench) problem(format string, args ...any) {
	b.Problems = append(b.Problems, "customizations."+ours+": "+plain.Line(fmt.Sprintf(format, args...), 300))
}

// usualSettings are the settings of editors that mean something here, by the names
// under which definitions have them.
var usualSettings = map[string]func(*Editor, json.RawMessage) error{
	"editor.tabSize":               tabSize,
	"editor.insertSpaces":          spaces,
	"editor.rulers":                rulers,
	"editor.formatOnSave":          func(e *Editor, v json.RawMessage) error { return json.Unmarshal(v, &e.FormatsOnSave) },
	"files.trimTrailingWhitespace": func(e *Editor, v json.RawMessage) error { return json.Unmarshal(v, &e.Trim) },
	"files.insertFinalNewline":     func(e *Editor, v json.RawMessage) error { return json.Unmarshal(v, &e.FinalNewline) },
}

// others reads the settings of an editor that is not ours: those that mean something
// are honoured, the others named.
func (b *Bench) others(section json.RawMessage) {
	var of struct {
		Settings map[string]json.RawMessage `json:"settings"`
	}
	if json.Unmarshal(section, &of) != nil {
		return // it is that editor's own matter
	}
	for _, name := range slices.Sorted(maps.Keys(of.Settings)) {
		if set, ok := usualSettings[name]; !ok || set(&b.Editor, of.Settings[name]) != nil {
			if len(b.PassedOver) < 200 {
				b.PassedOver = append(b.PassedOver, plain.Line(name, maxName))
			}
		}
	}
}

func tabSize(e *Editor, v json.RawMessage) error {
	var n int
	if err := json.Unmarshal(v, &n); err != nil || n < 1 || n > 16 {
		return errors.New("from 1 to 16")
	}
	e.TabSize = n
	return nil
}

func spaces(e *Editor, v json.RawMessage) error {
	var s bool
	if err := json.Unmarshal(v, &s); err != nil {
		return err
	}
	tabs := !s
	e.Tabs = &tabs
	return nil
}

func rulers(e *Editor, v json.RawMessage) error {
	var all []int
	if err := json.Unmarshal(v, &all); err != nil || len(all) > maxRulers || slices.ContainsFunc(all, func(n int) bool { return n < 1 || n > 500 }) {
		return fmt.Errorf("at most %d columns, from 1 to 500", maxRulers)
	}
	e.Rulers = all
	return nil
}

// section is ours.
type section struct {
	Editor struct {
		TabSize      json.RawMessage `json:"tab_size"`
		Tabs         *bool           `json:"tabs"`
		Rulers       json.RawMessage `json:"rulers"`
		Trim         *bool           `json:"trim"`
		FinalNewline *bool           `json:"final_newline"`
		FormatOnSave *bool           `json:"format_on_save"`
	} `json:"editor"`
	Languages map[string]struct {
		Files   []string `json:"files"`
		Command []string `json:"command"`
	} `json:"languages"`
	Debug struct {
		Adapters map[string]struct {
			Command []string `json:"command"`
		} `json:"adapters"`
		Configurations []struct {
			Name    string         `json:"name"`
			Adapter string         `json:"adapter"`
			Request string         `json:"request"`
			With    map[string]any `json:"with"`
		} `json:"configurations"`
	} `json:"debug"`
}

// own reads our section. What of it is wrong is told and left out; the rest holds.
func (b *Bench) own(text json.RawMessage) {
	var s section
	if err := json.Unmarshal(text, &s); err != nil {
		var t *json.UnmarshalTypeError
		if errors.As(err, &t) {
			b.problem("%s is a %s", t.Field, t.Value)
		} else {
			b.problem("it is no object")
		}
		return
	}
	if s.Editor.TabSize != nil && tabSize(&b.Editor, s.Editor.TabSize) != nil {
		b.problem("editor.tab_size is a number from 1 to 16")
	}
	if s.Editor.Rulers != nil && rulers(&b.Editor, s.Editor.Rulers) != nil {
		b.problem("editor.rulers are at most %d columns, from 1 to 500", maxRulers)
	}
	if s.Editor.Tabs != nil {
		b.Editor.Tabs = s.Editor.Tabs
	}
	for to, v := range map[*bool]*bool{&b.Editor.Trim: s.Editor.Trim, &b.Editor.FinalNewline: s.Editor.FinalNewline, &b.Editor.FormatsOnSave: s.Editor.FormatOnSave} {
		if v != nil {
			*to = *v
		}
	}
	b.ownLanguages(s)
	b.ownDebug(s)
}

func (b *Bench) ownLanguages(s section) {
	if len(s.Languages) > maxOwn {
		b.problem("at most %d languages may be named", maxOwn)
		return
	}
	for _, id := range slices.Sorted(maps.Keys(s.Languages)) {
		l := s.Languages[id]
		at := slices.IndexFunc(b.Languages, func(o Language) bool { return o.ID == id })
		if len(l.Files) == 0 && at >= 0 {
			l.Files = b.Languages[at].Files
		}
		switch {
		case !idForm.MatchString(id):
			b.problem("languages: %q is no name of a language", id)
		case len(l.Files) == 0 || len(l.Files) > maxOwn || slices.ContainsFunc(l.Files, badPattern):
			b.problem("languages.%s.files are patterns of names, as *.py", id)
		case !command(l.Command):
			b.problem("languages.%s.command is a program with its arguments, in words of their own", id)
		default:
			own := Language{ID: id, Files: l.Files, Programs: [][]string{l.Command}, Own: true}
			if at >= 0 {
				b.Languages[at] = own
			} else {
				b.Languages = append(b.Languages, own)
			}
		}
	}
}

func (b *Bench) ownDebug(s section) {
	if len(s.Debug.Adapters) > maxOwn || len(s.Debug.Configurations) > maxOwn {
		b.problem("debug: at most %d adapters and configurations may be named", maxOwn)
		return
	}
	for _, id := range slices.Sorted(maps.Keys(s.Debug.Adapters)) {
		if a := s.Debug.Adapters[id]; !idForm.MatchString(id) || !command(a.Command) {
			b.problem("debug.adapters.%s.command is a program with its arguments, in words of their own", id)
		} else {
			b.Adapters = slices.DeleteFunc(b.Adapters, func(o Adapter) bool { return o.ID == id })
			b.Adapters = append(b.Adapters, Adapter{ID: id, Command: a.Command, Own: true})
		}
	}
	for i, c := range s.Debug.Configurations {
		known := slices.ContainsFunc(b.Adapters, func(a Adapter) bool { return a.ID == c.Adapter })
		twice := slices.ContainsFunc(b.Configurations, func(o Configuration) bool { return o.Name == c.Name })
		if c.Request == "" {
			c.Request = "launch"
		}
		switch {
		case c.Name == "" || len(c.Name) > maxName || plain.Line(c.Name, maxName) != c.Name || twice:
			b.problem("debug.configurations[%d].name is one line of its own, of at most %d characters", i, maxName)
		case !known:
			b.problem("debug.configurations[%d].adapter: there is no adapter %q", i, c.Adapter)
		case c.Request != "launch" && c.Request != "attach":
			b.problem("debug.configurations[%d].request is launch or attach", i)
		default:
			with, port, ok := listens(c.Request, c.With)
			if !ok {
				b.problem("debug.configurations[%d].with.connect is a port of the workspace's loopback, and its host localhost", i)
				continue
			}
			b.Configurations = append(b.Configurations, Configuration{Name: c.Name, Adapter: c.Adapter, Request: c.Request, With: with, Port: port})
		}
	}
}

// listens takes what says where an adapter listens already out of what the adapter
// takes: "connect", with a host and a port, as is usual where one attaches.
func listens(request string, given map[string]any) (with map[string]any, port int, ok bool) {
	with = maps.Clone(given)
	if with == nil {
		with = map[string]any{}
	}
	said, there := with["connect"]
	if request != "attach" || !there {
		return with, 0, true
	}
	delete(with, "connect")
	to, _ := said.(map[string]any)
	n, _ := to["port"].(float64)
	host, named := to["host"].(string)
	here := !named && to["host"] == nil || slices.Contains([]string{"localhost", "127.0.0.1", "::1"}, host)
	return with, int(n), here && n == float64(int(n)) && n >= 1 && n <= 65535
}

func command(words []string) bool {
	return len(words) > 0 && len(words) <= maxWords && words[0] != "" && !strings.HasPrefix(words[0], "-") &&
		!slices.ContainsFunc(words, func(w string) bool { return len(w) > 1000 || strings.ContainsRune(w, 0) })
}

func badPattern(p string) bool {
	_, err := path.Match(p, "")
	return err != nil || !patternForm.MatchString(p)
}

// Language finds one by its name.
func (b Bench) Language(id string) (Language, bool) {
	i := slices.IndexFunc(b.Languages, func(l Language) bool { return l.ID == id })
	if i < 0 {
		return Language{}, false
	}
	return b.Languages[i], true
}

// Adapter finds one by its name.
func (b Bench) Adapter(id string) (Adapter, bool) {
	i := slices.IndexFunc(b.Adapters, func(a Adapter) bool { return a.ID == id })
	if i < 0 {
		return Adapter{}, false
	}
	return b.Adapters[i], true
}

// Line is what a definition says to have a language served: a set-up command where a
// package brings the program, else our section.
func (l Language) Line() string {
	if l.Package != "" {
		return brings(l.Package)
	}
	return fmt.Sprintf(`"customizations": {"yardbench": {"languages": {%q: {"command": ["PROGRAM"]}}}}`, l.ID)
}

// Line is what to add to a build file to have something debugged by the adapter; ""
// where no package brings it.
func (a Adapter) Line() string {
	if a.Package == "" {
		return ""
	}
	return brings(a.Package)
}

func brings(debian string) string { return "RUN apt-get update && apt-get install --yes " + debian }

// Script is a shell's script that becomes the first program that is there; it ends with
// 127 where none is.
func (l Language) Script() string {
	var s strings.Builder
	for _, p := range l.Programs {
		fmt.Fprintf(&s, "command -v %s >/dev/null 2>&1 && exec %s\n", plain.Word(p[0]), words(p))
	}
	return s.String() + "exit 127\n"
}

// Script is a shell's script that becomes the adapter; it ends with 127 where it is not
// there.
func (a Adapter) Script() string {
	return fmt.Sprintf("%s || exit 127\nexec %s\n", a.test(), words(a.Command))
}

func (a Adapter) test() string {
	if len(a.Test) > 0 {
		return words(a.Test) + " </dev/null >/dev/null 2>&1"
	}
	return "command -v " + plain.Word(a.Command[0]) + " >/dev/null 2>&1"
}

// Probe is a shell's script that prints a line for each program that is there: language
// and its name, a blank and the program; adapter and its name.
func (b Bench) Probe() string {
	var s strings.Builder
	for _, l := range b.Languages {
		for i, p := range l.Programs {
			if i > 0 {
				s.WriteString(" else ")
			}
			fmt.Fprintf(&s, "if command -v %s >/dev/null 2>&1; then echo %s;", plain.Word(p[0]), plain.Word("language "+l.ID+" "+p[0]))
		}
		s.WriteString(strings.Repeat(" fi;", len(l.Programs)) + "\n")
	}
	for _, a := range b.Adapters {
		fmt.Fprintf(&s, "if %s; then echo %s; fi\n", a.test(), plain.Word("adapter "+a.ID))
	}
	return s.String()
}

// There reads what [Bench.Probe] printed: programs by language, and adapters.
func There(printed string) (languages map[string]string, adapters map[string]bool) {
	languages, adapters = map[string]string{}, map[string]bool{}
	for line := range strings.Lines(printed) {
		switch w := strings.Fields(line); {
		case len(w) >= 3 && w[0] == "language":
			languages[w[1]] = w[2]
		case len(w) == 2 && w[0] == "adapter":
			adapters[w[1]] = true
		}
	}
	return languages, adapters
}

func words(argv []string) string {
	out := make([]string, len(argv))
	for i, a := range argv {
		out[i] = plain.Word(a)
	}
	return strings.Join(out, " ")
}

// Offers are ways to begin debugging that are made of what a tree holds: Python's
// programs, each with a main part, and its tests.
func Offers(mains []string, tests bool) []Configuration {
	var out []Configuration
	for _, m := range mains {
		if len(out) == 20 {
			break
		}
		out = append(out, Configuration{Name: plain.Line(m, maxName), Adapter: "python", Request: "launch", With: map[string]any{"program": m}, Found: true})
	}
	if tests {
		out = append(out, Configuration{Name: "the tests (unittest)", Adapter: "python", Request: "launch", With: map[string]any{"module": "unittest", "args": []any{"-v"}}, Found: true})
	}
	return out
}
