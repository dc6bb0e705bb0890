package definition

import (
	"errors"
	"fmt"
	"strings"

	"github.com/compose-spec/compose-go/v2/dotenv"
	"go.yaml.in/yaml/v4"
)

// Text that is small as it is written can be large as it is meant: variables
// stand for values with variables in them, aliases for lists of aliases. What
// a definition unfolds to is bounded here, before it is unfolded.
const (
	// MaxUnfolded bounds the bytes that the variables of one definition come
	// to, beyond what is written.
	MaxUnfolded = 1 << 20
	// referenceCost is counted for each reference on top of its value, so that
	// many references to nothing are bounded too.
	referenceCost = 64
	// maxPath bounds a path: no kernel takes a longer one (PATH_MAX).
	maxPath = 4096
	// maxNested bounds references that stand in the defaults of others.
	maxNested = 16
	// maxDollars bounds the dollar signs of one file.
	maxDollars = 5000
)

// errUnfolds says that a text comes to more than is allowed.
var errUnfolds = fmt.Errorf("its variables come to more than the %d bytes allowed", MaxUnfolded)

// allowance counts what was unfolded.
type allowance struct{ used int }

// take counts a value that is put in; false when it is too much.
func (a *allowance) take(value string) bool {
	a.used = min(a.used+len(value)+referenceCost, MaxUnfolded+1)
	return !a.spent()
}

func (a *allowance) spent() bool { return a.used > MaxUnfolded }

// counting looks values up and counts them. The readers that are handed it know
// no way to stop, so too much is a panic with errUnfolds; [unfolding] ends it.
func (a *allowance) counting(lookup func(string) (string, bool)) func(string) (string, bool) {
	return func(name string) (string, bool) {
		v, ok := lookup(name)
		if !a.take(v) {
			panic(errUnfolds)
		}
		return v, ok
	}
}

// unfolding calls do and gives errUnfolds where what it looks up is too much.
func unfolding(do func() error) (err error) {
	defer func() {
		switch r := recover(); {
		case r == nil:
		case r == errUnfolds: //nolint:errorlint // the very value that counting throws
			err = errUnfolds
		default:
			panic(r)
		}
	}()
	return do()
}

// tooVariable says why the variables of a text are too much to be read; "" when
// they are not. References that stand in references are read again for each
// that they stand in, and a text is copied for each dollar sign in it.
func tooVariable(text []byte) string {
	depth, dollars := 0, 0
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '$':
			if dollars++; dollars > maxDollars {
				return fmt.Sprintf("it has more than the %d dollar signs allowed", maxDollars)
			}
			if i+1 < len(text) && text[i+1] == '{' {
				if depth++; depth > maxNested {
					return "its variables are nested too deeply"
				}
			}
		case text[i] == '}' && depth > 0, text[i] == '\n':
			depth = max(0, depth-1)
		}
	}
	return ""
}

// environment reads a file of NAME=VALUE lines. The reader would unfold the
// whole file before anybody could look, so it is given one statement at a time.
func environment(text []byte, a *allowance) (map[string]string, error) {
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("it has more than the %d bytes allowed", MaxBytes)
	}
	if why := tooVariable(text); why != "" {
		return nil, errors.New(why)
	}
	out := map[string]string{}
	lookup := a.counting(func(name string) (string, bool) { v, ok := out[name]; return v, ok })
	for rest := string(text); rest != ""; {
		var statement string
		statement, rest = firstStatement(rest)
		err := unfolding(func() error {
			values, err := dotenv.UnmarshalBytesWithLookup([]byte(statement), lookup)
			for k, v := range values {
				out[k] = v
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// firstStatement cuts the first statement off: a line, or as many as its quotes
// go over.
func firstStatement(text string) (statement, rest string) {
	end := strings.IndexByte(text, '\n')
	if end < 0 {
		return text, ""
	}
	line := text[:end]
	_, value, ok := strings.Cut(line, "=")
	if yamlStyle, v, is := strings.Cut(line, ":"); is && (!ok || !strings.Contains(yamlStyle, "=")) {
		value, ok = v, true
	}
	value = strings.TrimLeft(value, " \t\v\f\r")
	if !ok || value == "" || (value[0] != '"' && value[0] != '\'') || strings.HasPrefix(strings.TrimSpace(line), "#") {
		return text[:end+1], text[end+1:]
	}
	quote, from := value[0], end-len(value)+1
	for i := from; i < len(text); i++ {
		if text[i] == '\\' {
			i++
			continue
		}
		if text[i] == quote {
			if end = strings.IndexByte(text[i:], '\n'); end < 0 {
				return text, ""
			}
			return text[:i+end+1], text[i+end+1:]
		}
	}
	return text, "" // never closed: the reader says so
}

// Bounds on what a document of YAML unfolds to.
const (
	maxComposeNodes = 50_000
	maxComposeBytes = 4 << 20
)

// yamlSize is what a document comes to: values, and bytes of their texts.
type yamlSize struct{ nodes, bytes int }

// unfoldedSize measures what a YAML document unfolds to: every alias, in a
// merge key too, counts as what it stands for. Neither number goes beyond its
// bound.
func unfoldedSize(doc *yaml.Node) yamlSize {
	known := map[*yaml.Node]yamlSize{}
	most := yamlSize{maxComposeNodes, maxComposeBytes}
	var of func(n *yaml.Node, depth int) yamlSize
	of = func(n *yaml.Node, depth int) yamlSize {
		if n.Kind == yaml.AliasNode && n.Alias != nil {
			n = n.Alias
		}
		if s, ok := known[n]; ok {
			return s
		}
		known[n] = most // an alias of itself never ends
		if depth > MaxDepth {
			return most
		}
		s := yamlSize{1, len(n.Value)}
		for _, c := range n.Content {
			m := of(c, depth+1)
			s = yamlSize{min(s.nodes+m.nodes, most.nodes), min(s.bytes+m.bytes, most.bytes)}
		}
		known[n] = s
		return s
	}
	return of(doc, 0)
}
