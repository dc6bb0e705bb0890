// Package attention says what needs somebody: it groups what is wrong by its cause, so
// that forty workspaces are three causes, and puts first what holds up most people for
// longest.
//
// It is part of the core: plain functions over values it is handed.
package attention

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Failed is the kind of what could not be launched, started, rebuilt or prepared; the
// others are conditions of workspaces, or what is wrong with something else.
const Failed = "failed"

// Case is one thing that needs somebody.
type Case struct {
	Of    string // what it is: a workspace, the service, a webhook, a prebuild plan
	ID    string // of the workspace; "" of others
	Name  string // as people say it: NAME.OWNER, an address
	Owner string // who waits for it; "" is nobody
	Kind  string
	In    string // the step that failed, where one did
	Cause string // as it is written
	Since time.Time
	// Names are what belongs to this case alone, and is no part of a cause: of the
	// workspace, its owner, its branch.
	Names []string
}

// Group are the cases of one cause.
type Group struct {
	Key    string // tells it from others, for as long as its cause is the same
	Of     string
	Kind   string
	In     string
	Cause  string    // with names taken out
	Since  time.Time // the oldest case
	Newest time.Time
	People int // who wait, each once
	Cases  []Case
}

// Groups puts cases together by their cause: what is first holds up most people, each
// counted by how long.
func Groups(cases []Case, now time.Time) []Group {
	at := map[string]int{}
	var out []Group
	for _, c := range cases {
		cause := Plain(c.Cause, c.Names)
		key := c.key(cause)
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, Group{Key: key, Of: c.Of, Kind: c.Kind, In: c.In, Cause: cause, Since: c.Since, Newest: c.Since})
		}
		g := &out[i]
		g.Cases = append(g.Cases, c)
		if c.Since.Before(g.Since) {
			g.Since = c.Since
		}
		if c.Since.After(g.Newest) {
			g.Newest = c.Since
		}
	}
	weight := map[string]time.Duration{}
	for i := range out {
		g := &out[i]
		slices.SortStableFunc(g.Cases, func(a, b Case) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Name, b.Name)) })
		waits := map[string]time.Duration{}
		for _, c := range g.Cases {
			if c.Owner != "" {
				waits[c.Owner] = max(waits[c.Owner], now.Sub(c.Since))
			}
		}
		g.People = len(waits)
		if g.Of != "workspace" { // it may hold everybody up
			weight[g.Key] = now.Sub(g.Since) * time.Duration(1+len(g.Cases))
		}
		for _, w := range waits {
			weight[g.Key] += w
		}
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(cmp.Compare(weight[b.Key], weight[a.Key]), a.Since.Compare(b.Since), cmp.Compare(a.Key, b.Key))
	})
	return out
}

// Key tells a case's group from others.
func (c Case) Key() string { return c.key(Plain(c.Cause, c.Names)) }

func (c Case) key(plain string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{c.Of, c.Kind, c.In, plain}, "\x00")))
	return hex.EncodeToString(sum[:6])
}

var (
	// What is another each time, and says nothing of the cause: addresses with a port,
	// hashes and ids, times, numbers of several digits. A number of one digit may be an
	// exit code.
	address = regexp.MustCompile(`\b\d{1,3}(\.\d{1,3}){3}(:\d+)?\b`)
	hash    = regexp.MustCompile(`\b(sha256:)?[0-9a-f]{7,64}\b`)
	opaque  = regexp.MustCompile(`\b[a-z2-7]{16}\b|\b[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\b`)
	took    = regexp.MustCompile(`\b\d+(\.\d+)? ?(ms|s|min|h|days|KiB|MiB|GiB|TiB|bytes|kB|MB|GB)\b`)
	number  = regexp.MustCompile(`\b\d[\d.,:]*\d\b`)
	spaces  = regexp.MustCompile(`\s+`)
)

// out stands for what was taken out.
const out = "…"

// maxCause bounds what is compared of a cause, in bytes.
const maxCause = 2000

// Plain is a cause with names taken out, and with what is another each time: what is
// left is the same for all that have it.
func Plain(cause string, names []string) string {
	if len(cause) > maxCause {
		cause = strings.ToValidUTF8(cause[:maxCause], "")
	}
	names = slices.Clone(names)
	slices.SortFunc(names, func(a, b string) int { return cmp.Compare(len(b), len(a)) }) // the longer first: one may hold another
	for _, n := range names {
		if n != "" {
			cause = without(cause, n)
		}
	}
	for _, r := range []*regexp.Regexp{address, opaque, hash, took, number} {
		cause = r.ReplaceAllString(cause, out)
	}
	return strings.TrimSpace(spaces.ReplaceAllString(cause, " "))
}

// without takes a name out of a text, where it stands as a word of its own.
func without(text, name string) string {
	var b strings.Builder
	at := 0
	for {
		i := strings.Index(text[at:], name)
		if i < 0 {
			return b.String() + text[at:]
		}
		i += at
		end := i + len(name)
		b.WriteString(text[at:i])
		if (i == 0 || !inWord(text[i-1])) && (end == len(text) || !inWord(text[end])) {
			b.WriteString(out)
		} else {
			b.WriteString(name)
		}
		at = end
	}
}

func inWord(c byte) bool {
	return c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// maxCommon bounds the lines that are told of a group.
const maxCommon = 12

// Common are the last lines that several logs have in common, as the first has them:
// lines are the same where they are once names are taken out.
func Common(logs [][]string, names []string) []string {
	if len(logs) == 0 {
		return nil
	}
	in := make([]map[string]bool, len(logs))
	for i, log := range logs {
		in[i] = map[string]bool{}
		for _, line := range log {
			in[i][Plain(line, names)] = true
		}
	}
	var found []string
	seen := map[string]bool{}
	for _, line := range slices.Backward(logs[0]) {
		plain := Plain(line, names)
		if plain == "" || plain == out || seen[plain] || len(found) == maxCommon {
			continue
		}
		seen[plain] = true
		if !slices.ContainsFunc(in[1:], func(other map[string]bool) bool { return !other[plain] }) {
			found = append(found, line)
		}
	}
	slices.Reverse(found)
	return found
}
