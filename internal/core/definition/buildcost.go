package definition

import (
	"bytes"
	"fmt"
	"maps"
	"strings"
	"unicode"

	"github.com/moby/buildkit/frontend/dockerfile/parser"
)

// A build file is made into a graph in the service's own process, and a small
// text can be a large graph: variables that stand for twice themselves, an
// environment that each command carries. What it comes to is bounded before.
const (
	maxInstructions = 2000
	maxStages       = 500
	// maxBuildWords bounds the bytes that the words of a build file come to with
	// variables put in, maxBuildEnv those of the environments that its commands
	// are run with, all together.
	maxBuildWords = 4 << 20
	maxBuildEnv   = 64 << 20
	// unknownValue is counted for a variable of which nothing is known here; see
	// the guard of the builder for what an image may bring.
	unknownValue = 4096
)

// unfoldsVariables are the instructions in which the builder puts variables in
// (Dockerfile reference, "Environment replacement").
var unfoldsVariables = map[string]bool{"add": true, "arg": true, "copy": true, "env": true, "expose": true, "from": true, "label": true, "stopsignal": true, "user": true, "volume": true, "workdir": true, "onbuild": true}

// CheckBuildCost says why a build file comes to more than is allowed; a file
// that cannot be read is told elsewhere.
func CheckBuildCost(dockerfile []byte, args map[string]string) error {
	parsed, err := parser.Parse(bytes.NewReader(dockerfile))
	if err != nil {
		return nil //nolint:nilerr // the builder says what is wrong with it
	}
	return buildCost(parsed.AST.Children, args)
}

func buildCost(instructions []*parser.Node, args map[string]string) error {
	if len(instructions) > maxInstructions {
		return fmt.Errorf("it has more than the %d instructions allowed", maxInstructions)
	}
	c := buildCounter{args: args, stages: map[string]map[string]int{}}
	for _, n := range instructions {
		if why := c.count(n); why != "" {
			return fmt.Errorf("%s", why)
		}
	}
	return nil
}

// buildCounter counts what a build file comes to, an instruction after the other.
type buildCounter struct {
	args       map[string]string
	global     map[string]int            // of arguments before the first stage: bytes of values
	now        map[string]int            // of the stage: bytes of values
	stages     map[string]map[string]int // by name
	name       string
	froms      int
	words, env int
}

func (c *buildCounter) count(n *parser.Node) string {
	what := strings.ToLower(n.Value)
	text := n.Original
	for _, h := range n.Heredocs {
		text += h.Content
	}
	size := len(text)
	if unfoldsVariables[what] {
		size = c.unfolded(text)
	}
	if c.words = min(c.words+size, maxBuildWords+1); c.words > maxBuildWords {
		return fmt.Sprintf("its variables come to more than the %d bytes allowed", maxBuildWords)
	}
	switch what {
	case "from":
		if c.froms++; c.froms > maxStages {
			return fmt.Sprintf("it has more than the %d stages allowed", maxStages)
		}
		c.begin(n)
	case "env", "arg":
		c.assign(what, n)
	case "run":
		of := 0
		for k, v := range c.now {
			of += len(k) + v
		}
		if c.env = min(c.env+of, maxBuildEnv+1); c.env > maxBuildEnv {
			return fmt.Sprintf("the environments of its commands come to more than the %d bytes allowed", maxBuildEnv)
		}
	}
	return ""
}

// begin begins a stage, with what the one that it begins with has.
func (c *buildCounter) begin(n *parser.Node) {
	if c.now == nil {
		c.now = c.global // arguments that stand before are known to FROM alone
	}
	var words []string
	for w := n.Next; w != nil && len(words) < 4; w = w.Next {
		words = append(words, w.Value)
	}
	next := map[string]int{}
	if len(words) > 0 {
		next = maps.Clone(c.stages[strings.ToLower(words[0])])
	}
	if next == nil {
		next = map[string]int{}
	}
	if c.now = next; len(words) == 3 && strings.EqualFold(words[1], "as") {
		c.name = strings.ToLower(words[2])
		c.stages[c.name] = c.now // filled while the stage goes on
	}
}

// assign notes how large what ENV and ARG set is.
func (c *buildCounter) assign(what string, n *parser.Node) {
	if c.now == nil {
		c.now = map[string]int{}
		c.global = c.now
	}
	if what == "arg" {
		for w := n.Next; w != nil; w = w.Next {
			k, v, _ := strings.Cut(w.Value, "=")
			c.now[k] = max(c.unfolded(v), len(c.args[k]), c.global[k])
		}
		return
	}
	for w := n.Next; w != nil && w.Next != nil; { // name, value, sign
		c.now[w.Value] = c.unfolded(w.Next.Value)
		if w = w.Next.Next; w != nil {
			w = w.Next
		}
	}
}

// unfolded is at most how many bytes a text comes to with variables put in.
func (c *buildCounter) unfolded(text string) int {
	size := len(text)
	for rest := text; ; {
		i := strings.IndexByte(rest, '$')
		if i < 0 || size > maxBuildWords {
			return min(size, maxBuildWords+1)
		}
		rest = rest[i+1:]
		name, times := rest, 1
		if strings.HasPrefix(rest, "{") {
			name = rest[1:]
			// A pattern's replacement may stand in for each byte of the value.
			if end := strings.IndexByte(name, '}'); strings.Contains(name[:max(0, end)], "/") || end < 0 {
				times = max(1, len(name[:max(0, end)]))
			}
		}
		if end := strings.IndexFunc(name, func(r rune) bool { return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) }); end >= 0 {
			name = name[:end]
		}
		value, known := c.now[name]
		if !known {
			value = max(c.global[name], unknownValue)
		}
		size = min(size+value*times, maxBuildWords+1)
	}
}
