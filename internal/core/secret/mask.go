package secret

import (
	"bytes"
	"io"
	"slices"
)

// MinMasked is the length in bytes from which values are masked: shorter ones
// stand everywhere by chance, and a log full of masks would give them away.
const MinMasked = 4

// Masker is a writer that replaces secret values by their names before they
// reach the writer beneath, as they are and in the forms of [Forms]. A value is
// found even where it is split over several writes; what could be the start of
// one is held back until Close.
//
// It is an automaton after Aho and Corasick (1975): what is written costs the
// same whatever the values are, and however many.
type Masker struct {
	to    io.Writer
	of    *Values // what is masked, where more of it can come
	seen  int32   // how many of them stand in the tree
	nodes []node
	root  [256]int32 // the nodes of the first bytes
	names []string
	// first has a bit set for the hash of each first four bytes of a form: what has
	// none begins nothing, and is passed on without a look at the tree.
	first []uint64

	out   bytes.Buffer // what is passed on of one write
	state int32
	depth int    // of the state: so many of the newest bytes could begin a value
	held  []byte // the newest bytes, from where a value could begin or is found
	from  int64  // where held begins, counted from the first byte written
	at    int64  // how many were written
	keep  bool   // found ones are kept, and nothing is passed on
	found []run  // what is masked and not passed on yet, apart and in order
}

// node is a beginning of values.
type node struct {
	child, next int32 // its first longer one, and the next of the same length and beginning
	fail        int32 // the longest ending of it that is a beginning too
	depth       int32
	ends        int32 // the length of the longest value that ends with it; 0 for none
	name        int32 // of that
	b           byte
}

// run is a stretch that one value or several that overlap cover.
type run struct {
	from, to int64
	names    []int32
}

// NewMasker masks the given secrets, value by name, in what is written to w.
// A value of several lines is masked line by line too, as terminals and tools
// often print it so.
func NewMasker(w io.Writer, byName map[string]string) *Masker {
	m := &Masker{to: w}
	m.plant(NewValues(byName).list())
	return m
}

// plant makes the tree anew. What could begin a value before can do so now: the names
// keep their places, and no beginning goes.
func (m *Masker) plant(all []named) {
	begun := m.held[len(m.held)-m.depth:]
	m.nodes, m.root, m.first, m.names, m.state = make([]node, 1), [256]int32{}, make([]uint64, 1<<firstBits/64), nil, 0 // the first node stands for nothing
	for i, n := range all {
		m.names = append(m.names, n.name)
		for _, form := range Forms(n.value) {
			m.add(form, int32(i))
		}
	}
	m.link()
	for _, b := range begun {
		m.state = m.step(m.state, b)
	}
	m.seen = int32(len(all))
}

// add puts a value's form into the tree.
func (m *Masker) add(form string, name int32) {
	h := hashOf(form)
	m.first[h/64] |= 1 << (h % 64)
	at := int32(0)
	for i := range len(form) {
		next := m.step(at, form[i])
		if next == 0 {
			next = int32(len(m.nodes))
			m.nodes = append(m.nodes, node{b: form[i], depth: int32(i + 1)})
			if at == 0 {
				m.root[form[i]] = next
			} else {
				m.nodes[next].next, m.nodes[at].child = m.nodes[at].child, next
			}
		}
		at = next
	}
	if m.nodes[at].ends == 0 {
		m.nodes[at].ends, m.nodes[at].name = int32(len(form)), name
	}
}

// step is the node one byte further; 0 where there is none.
func (m *Masker) step(at int32, b byte) int32 {
	if at == 0 {
		return m.root[b]
	}
	n := m.nodes[at].child
	for n != 0 && m.nodes[n].b != b {
		n = m.nodes[n].next
	}
	return n
}

// link finds for each node where to go on when nothing longer comes.
func (m *Masker) link() {
	var queue []int32
	for _, n := range m.root {
		if n != 0 {
			queue = append(queue, n)
		}
	}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for n := m.nodes[at].child; n != 0; n = m.nodes[n].next {
			fail := m.nodes[at].fail
			next := m.step(fail, m.nodes[n].b)
			for next == 0 && fail != 0 {
				fail = m.nodes[fail].fail
				next = m.step(fail, m.nodes[n].b)
			}
			m.nodes[n].fail = next
			if m.nodes[n].ends == 0 {
				m.nodes[n].ends, m.nodes[n].name = m.nodes[next].ends, m.nodes[next].name
			}
			queue = append(queue, n)
		}
	}
}

// Write masks p and passes on what cannot be part of a value any more.
func (m *Masker) Write(p []byte) (int, error) {
	if m.of != nil && m.of.n.Load() != m.seen {
		m.plant(m.of.list())
	}
	out := &m.out
	out.Reset()
	for i := 0; i < len(p); {
		if m.state == 0 { // nothing is held
			n := m.plainly(p[i:])
			out.Write(p[i : i+n])
			m.at, m.from, i = m.at+int64(n), m.from+int64(n), i+n
			if i == len(p) {
				break
			}
		}
		b := p[i]
		i++
		next := m.step(m.state, b)
		for next == 0 && m.state != 0 {
			m.state = m.nodes[m.state].fail
			next = m.step(m.state, b)
		}
		m.held = append(m.held, b)
		m.at++
		if n := m.nodes[next]; n.ends > 0 {
			m.cover(m.at-int64(n.ends), n.name)
		}
		for next != 0 && m.nodes[next].child == 0 { // nothing longer begins so
			next = m.nodes[next].fail
		}
		if m.nodes[next].depth == 1 && i+firstBytes-1 <= len(p) && !m.begins(p[i-1:]) {
			next = 0
		}
		m.state, m.depth = next, int(m.nodes[next].depth)
		m.pass(out, m.at-int64(m.depth))
	}
	if out.Len() == 0 {
		return len(p), nil
	}
	_, err := m.to.Write(out.Bytes())
	return len(p), err
}

const (
	firstBytes = MinMasked // no form is shorter
	firstBits  = 20        // of the hashes of some ten thousand forms one in a hundred is set
)

// hashOf is the hash of the first four bytes (Knuth, The Art of Computer
// Programming 3, 6.4: multiplicative hashing).
func hashOf[T string | []byte](s T) uint32 {
	return (uint32(s[0]) | uint32(s[1])<<8 | uint32(s[2])<<16 | uint32(s[3])<<24) * 2654435769 >> (32 - firstBits)
}

// begins tells whether a form may begin so, by the first four bytes.
func (m *Masker) begins(p []byte) bool {
	h := hashOf(p)
	return m.first[h/64]&(1<<(h%64)) != 0
}

// plainly is how many bytes no form begins in.
func (m *Masker) plainly(p []byte) int {
	first := m.first
	for n := 0; n+firstBytes <= len(p); n++ {
		h := hashOf(p[n : n+firstBytes])
		if first[h/64]&(1<<(h%64)) != 0 {
			return n
		}
	}
	return max(0, len(p)-firstBytes+1)
}

// cover says that a value was found, from there to the newest byte. What it
// overlaps becomes one stretch with it.
func (m *Masker) cover(from int64, name int32) {
	is := run{from, m.at, []int32{name}}
	for len(m.found) > 0 {
		last := m.found[len(m.found)-1]
		if last.to <= from {
			break
		}
		if last.from < from { // it goes on from within; else it holds the last whole
			is.from = last.from
			if is.names = last.names; !slices.Contains(is.names, name) {
				is.names = append(is.names, name)
			}
		}
		m.found = m.found[:len(m.found)-1]
	}
	m.found = append(m.found, is)
}

// pass passes on all before a place: nothing that is found yet begins there.
func (m *Masker) pass(out *bytes.Buffer, before int64) {
	if m.keep && len(m.found) > 0 {
		m.drop(before)
		return
	}
	for len(m.found) > 0 && m.found[0].to <= before {
		m.plain(out, m.found[0].from)
		for _, n := range m.found[0].names {
			out.WriteString("[secret " + m.names[n] + "]")
		}
		m.drop(m.found[0].to)
		m.found = m.found[1:]
	}
	if len(m.found) > 0 {
		m.plain(out, min(before, m.found[0].from))
		m.drop(before) // covered: it need not be kept
		return
	}
	m.plain(out, before)
}

// plain passes on held bytes up to a place as they are, and drop forgets them.
func (m *Masker) plain(out *bytes.Buffer, to int64) {
	out.Write(m.held[:max(0, to-m.from)])
	m.drop(to)
}

func (m *Masker) drop(to int64) {
	n := max(0, to-m.from)
	m.held, m.from = m.held[n:], m.from+n
}

// Close passes on what was held back. It does not close the writer beneath.
func (m *Masker) Close() error {
	var out bytes.Buffer
	m.state, m.depth = 0, 0
	m.pass(&out, m.at)
	if out.Len() == 0 {
		return nil
	}
	_, err := m.to.Write(out.Bytes())
	return err
}
