package rules

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Editor is an editor of people's own machines, which an address of a scheme of its
// own opens on a workspace.
type Editor struct {
	Name string
	// Link is the address, with words in braces for what it is opened on; see
	// [EditorWords].
	Link string
}

// EditorWords are what may stand in braces in an editor's address.
var EditorWords = []string{"alias", "folder", "host", "owner", "port", "workspace"}

// Bounds on editors.
const (
	maxEditors    = 20
	maxEditorLink = 500
)

var (
	braces = regexp.MustCompile(`\{([^{}]*)\}`)
	// A browser runs or shows what is behind these itself.
	noSchemes = []string{"about", "blob", "data", "file", "javascript", "vbscript", "view-source"}
)

func (d *doc) editors(n *yaml.Node) (out []Editor) {
	pairs := d.pairs(n, "editors")
	if len(pairs) > maxEditors {
		d.say(n, "name those that people use", "%d editors are more than %d", len(pairs), maxEditors)
		return nil
	}
	for _, p := range pairs {
		e := Editor{p.key.Value, d.text(p.value)}
		if why := e.wrong(); why != "" {
			d.say(p.value, "write it like: name://open?host={host}&port={port}&user={workspace}&folder={folder}", "%s", why)
		}
		out = append(out, e)
	}
	return out
}

// wrong says what is wrong with an editor; "" is nothing.
func (e Editor) wrong() string {
	for _, m := range braces.FindAllStringSubmatch(e.Link, -1) {
		if !slices.Contains(EditorWords, m[1]) {
			return fmt.Sprintf("{%s} is not known here; there are: %s", m[1], strings.Join(EditorWords, ", "))
		}
	}
	u, err := url.Parse(braces.ReplaceAllString(e.Link, "x"))
	switch {
	case strings.TrimSpace(e.Name) == "" || len(e.Name) > 40:
		return "an editor's name has 1 to 40 letters"
	case len(e.Link) > maxEditorLink:
		return fmt.Sprintf("an address of %d letters is longer than %d", len(e.Link), maxEditorLink)
	case err != nil || u.Scheme == "" || strings.ContainsFunc(e.Link, func(r rune) bool { return r <= ' ' }):
		return fmt.Sprintf("%q is no address", e.Link)
	case strings.HasPrefix(e.Link, "{"):
		return "what an address begins with is the editor's own"
	case slices.Contains(noSchemes, u.Scheme):
		return fmt.Sprintf("%s: is opened by the browser itself", u.Scheme)
	}
	return ""
}
