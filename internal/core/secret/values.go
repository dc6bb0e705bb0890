package secret

import (
	"bytes"
	"io"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// Values are secrets' values that what is written down must not hold. More can come
// while it is written: a name may have several, one after the other.
type Values struct {
	mu  sync.Mutex
	all []named
	n   atomic.Int32 // how many there are
}

type named struct{ name, value string }

// NewValues begins with values by name.
func NewValues(byName map[string]string) *Values {
	v := &Values{}
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		v.Add(name, byName[name])
	}
	return v
}

// Add has a value masked from now on, in everything that is written by [Values.Masker].
func (v *Values) Add(name, value string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if n := (named{name, value}); !slices.Contains(v.all, n) {
		v.all = append(v.all, n)
		v.n.Store(int32(len(v.all)))
	}
}

// list is all of them; none for nil.
func (v *Values) list() []named {
	if v == nil {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Clone(v.all)
}

// Masker masks the values in what is written to w, also those that come later.
func (v *Values) Masker(w io.Writer) *Masker {
	m := &Masker{to: w, of: v}
	m.plant(v.list())
	return m
}

// Mask masks one string, for errors and last lines.
func (v *Values) Mask(s string) string {
	var out bytes.Buffer
	m := v.Masker(&out)
	_, _ = m.Write([]byte(s)) // a bytes.Buffer never fails
	_ = m.Close()
	return out.String()
}
