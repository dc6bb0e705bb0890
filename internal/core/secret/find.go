package secret

import (
	"errors"
	"io"
)

// MinFound is the length in bytes from which values are looked for in files:
// shorter ones stand in many by chance.
const MinFound = 12

// Finder looks for values in what is read, as they are and in the forms of [Forms].
type Finder struct{ values map[string]string }

// NewFinder looks for values by name; those that are shorter than MinFound are left
// out.
func NewFinder(byName map[string]string) Finder {
	f := Finder{map[string]string{}}
	for name, v := range byName {
		if len(v) >= MinFound {
			f.values[name] = v
		}
	}
	return f
}

// Empty tells that there is nothing to look for.
func (f Finder) Empty() bool { return len(f.values) == 0 }

var errFound = errors.New("found")

// Look gives what to look through one reader after the other with. Each tells the
// name of the first value that it finds; "" where there is none.
func (f Finder) Look() func(io.Reader) (name string, err error) {
	m := NewMasker(io.Discard, f.values)
	return func(r io.Reader) (string, error) {
		m.state, m.depth, m.held, m.found, m.from, m.at = 0, 0, nil, nil, 0, 0
		_, err := io.CopyBuffer(struct{ io.Writer }{stopper{m}}, r, make([]byte, 64<<10))
		if errors.Is(err, errFound) {
			err = nil
		}
		if len(m.found) > 0 {
			return m.names[m.found[0].names[0]], err
		}
		return "", err
	}
}

// stopper ends what is written at the first value.
type stopper struct{ m *Masker }

func (s stopper) Write(p []byte) (int, error) {
	s.m.keep = true
	n, err := s.m.Write(p)
	if len(s.m.found) > 0 {
		err = errFound
	}
	return n, err
}
