package secret

import (
	"bytes"
	"io"
	"maps"
	"slices"
	"strings"
)

// MinMasked is the length in bytes from which values are masked: shorter ones
// stand everywhere by chance, and a log full of masks would give them away.
const MinMasked = 4

// Masker is a writer that replaces secret values by their names before they
// reach the writer beneath. A value is found even where it is split over
// several writes; what could be the start of one is held back until Close.
type Masker struct {
	to io.Writer
	// values are those with the same first bytes, the longest first, so that a
	// value within another is not cut out of it; begins are their beginnings that
	// are shorter than that.
	values map[[MinMasked]byte][]masked
	begins map[string]bool
	held   []byte
}

type masked struct {
	value, mask []byte
}

// NewMasker masks the given secrets, value by name, in what is written to w.
// A value of several lines is masked line by line too, as terminals and tools
// often print it so.
func NewMasker(w io.Writer, byName map[string]string) *Masker {
	m := &Masker{to: w, values: map[[MinMasked]byte][]masked{}, begins: map[string]bool{}}
	known := map[string]bool{}
	add := func(name, v string) {
		if len(v) < MinMasked || known[v] {
			return
		}
		known[v] = true
		first := [MinMasked]byte([]byte(v)[:MinMasked])
		m.values[first] = append(m.values[first], masked{[]byte(v), []byte("[secret " + name + "]")})
		for n := 1; n < MinMasked; n++ {
			m.begins[v[:n]] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		v := byName[name]
		add(name, v)
		if t := strings.TrimRight(v, "\r\n"); t != v {
			add(name, t)
		}
		if lines := strings.Split(v, "\n"); len(lines) > 1 {
			for _, l := range lines {
				add(name, strings.TrimRight(l, "\r"))
			}
		}
	}
	for _, of := range m.values {
		slices.SortStableFunc(of, func(a, b masked) int { return len(b.value) - len(a.value) })
	}
	return m
}

// Write masks p and passes on what cannot be part of a longer value.
func (m *Masker) Write(p []byte) (int, error) {
	m.held = append(m.held, p...)
	return len(p), m.pass(false)
}

// Close passes on what was held back. It does not close the writer beneath.
func (m *Masker) Close() error { return m.pass(true) }

func (m *Masker) pass(all bool) error {
	var out []byte
	b := m.held
	for len(b) > 0 {
		if !all && m.mayStart(b) {
			break // before the shorter ones: a longer value may be on its way
		}
		if v, ok := m.startsWith(b); ok {
			out = append(out, v.mask...)
			b = b[len(v.value):]
			continue
		}
		out = append(out, b[0])
		b = b[1:]
	}
	m.held = append([]byte(nil), b...)
	if len(out) == 0 {
		return nil
	}
	_, err := m.to.Write(out)
	return err
}

func (m *Masker) startsWith(b []byte) (masked, bool) {
	if len(b) < MinMasked {
		return masked{}, false
	}
	for _, v := range m.values[[MinMasked]byte(b[:MinMasked])] {
		if bytes.HasPrefix(b, v.value) {
			return v, true
		}
	}
	return masked{}, false
}

// mayStart tells whether b could grow into a value.
func (m *Masker) mayStart(b []byte) bool {
	if len(b) < MinMasked {
		return m.begins[string(b)]
	}
	for _, v := range m.values[[MinMasked]byte(b[:MinMasked])] {
		if len(b) >= len(v.value) {
			return false // the longest come first
		}
		if bytes.HasPrefix(v.value, b) {
			return true
		}
	}
	return false
}

// Mask masks one string, for errors and last lines.
func Mask(s string, byName map[string]string) string {
	var out bytes.Buffer
	m := NewMasker(&out, byName)
	_, _ = m.Write([]byte(s)) // a bytes.Buffer never fails
	_ = m.Close()
	return out.String()
}
