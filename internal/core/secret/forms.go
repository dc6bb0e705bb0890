package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"strings"
)

// Bounds of what is looked for besides a value itself.
const (
	// minForm is the least length of a form: shorter ones are met by chance.
	minForm = 8
	// maxFormed bounds the values of which other forms are looked for: a key file
	// is within.
	maxFormed = 8 << 10
)

// Forms are the texts by which a value is known in what is written down: as it
// is, without its line end, each of its lines, and as common tools write it: in
// base64 (RFC 4648, both alphabets, wherever it begins, whole lines of it), in
// hexadecimal, percent-encoded (RFC 3986), as a JSON string (RFC 8259), as words
// of a shell, and as a shell's echo prints it. What turns it about otherwise, or
// prints a part, is not found.
func Forms(v string) (out []string) {
	known := map[string]bool{}
	add := func(form string, least int) {
		if len(form) >= least && !known[form] {
			known[form] = true
			out = append(out, form)
		}
	}
	texts := []string{v}
	if t := strings.TrimRight(v, "\r\n"); t != v {
		texts = append(texts, t)
	}
	for _, t := range texts {
		add(t, MinMasked)
	}
	if lines := strings.Split(v, "\n"); len(lines) > 1 {
		for _, l := range lines {
			add(strings.TrimRight(l, "\r"), MinMasked)
		}
	}
	if len(v) > maxFormed {
		return out
	}
	for _, t := range texts {
		for _, alphabet := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding} {
			for before := range 3 {
				add(within(alphabet, t, before), minForm)
			}
			whole := alphabet.EncodeToString([]byte(t))
			for _, width := range []int{76, 64} { // MIME's lines, and PEM's
				for rest := whole; len(whole) > width && rest != ""; rest = rest[min(width, len(rest)):] {
					add(strings.TrimRight(rest[:min(width, len(rest))], "="), 2*minForm)
				}
			}
		}
		for _, digits := range []string{hex.EncodeToString([]byte(t)), strings.ToUpper(hex.EncodeToString([]byte(t)))} {
			add(digits, minForm)
			for rest := digits; len(digits) > 60 && rest != ""; rest = rest[min(60, len(rest)):] {
				add(rest[:min(60, len(rest))], 2*minForm)
			}
		}
		add(url.QueryEscape(t), minForm)
		add(url.PathEscape(t), minForm)
		add(strings.ReplaceAll(url.QueryEscape(t), "+", "%20"), minForm)
		if text, err := json.Marshal(t); err == nil {
			add(string(text[1:len(text)-1]), minForm)
			add(strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(text[1:len(text)-1])), minForm)
		}
		add(strings.ReplaceAll(t, "'", `'\''`), minForm)
		add(strings.ReplaceAll(t, "'", `'"'"'`), minForm)
		add(backslashed(t, "\\\"$`"), minForm)
		add(backslashed(t, "\\\"'$` \t!&()*,;<>?[]^{|}"), minForm)
		add(echoed(t), minForm)
	}
	return out
}

// within is the base64 of a value somewhere in a text, after so many bytes of a
// group of three: the characters that it alone decides.
func within(alphabet *base64.Encoding, v string, before int) string {
	text := alphabet.WithPadding(base64.NoPadding).EncodeToString([]byte(strings.Repeat("\x00", before) + v))
	first := []int{0, 2, 3}[before]
	last := (before + len(v)) * 8 / 6
	return text[min(first, last):last]
}

// backslashed puts a backslash before some characters.
func backslashed(v, which string) string {
	var b strings.Builder
	for i := range len(v) {
		if strings.IndexByte(which, v[i]) >= 0 {
			b.WriteByte('\\')
		}
		b.WriteByte(v[i])
	}
	return b.String()
}

// echoed is what a POSIX shell's echo may print of a value (echo, POSIX.1-2017,
// the XSI escapes).
func echoed(v string) string {
	return strings.NewReplacer(`\\`, `\`, `\a`, "\a", `\b`, "\b", `\f`, "\f", `\n`, "\n", `\r`, "\r", `\t`, "\t", `\v`, "\v").Replace(v)
}
