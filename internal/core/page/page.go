// Package page cuts lists into parts that are read one after the other, and
// orders them. A part begins behind the last thing of the one before, whatever
// came or went meanwhile: nothing that stays is passed over or given twice. It is
// part of the core.
package page

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Order is a way to order a list. Keys are compared byte by byte; see [Number].
type Order[T any] struct {
	Name string
	Key  func(T) string
}

// Kind is a kind of list: how its things are told apart, and its orders. An
// order's name with a minus before it is that order turned about.
type Kind[T any] struct {
	Name   string // of the list: what continues one list continues no other
	ID     func(T) string
	Orders []Order[T]
	Usual  string // where nobody says in which order; empty is the first
}

// Ask says which part is wanted.
type Ask struct {
	Limit int    // how many things at most; 0 is all
	After string // what the part before gave to go on with; empty is the beginning
	Sort  string // an order's name; empty is the usual one
}

// NoOrder says that a list has no order of a name.
type NoOrder struct {
	Name string
	Has  []string
}

func (e NoOrder) Error() string {
	return fmt.Sprintf("there is no order %q: it is one of %s, each also with a minus before it", e.Name, strings.Join(e.Has, ", "))
}

// NoMark says that what was given to go on with is none of this list's.
type NoMark struct{ Why string }

func (e NoMark) Error() string {
	return "what was given to go on after " + e.Why + ": give what this list answered, in the same order, or begin anew without it"
}

// mark is where a part ended.
type mark struct {
	List string `json:"l"`
	Sort string `json:"s"`
	Key  string `json:"k"`
	ID   string `json:"i"`
}

// MaxMark bounds what is given to go on with, in bytes.
const MaxMark = 2000

// Names are the orders' names.
func (k Kind[T]) Names() (names []string) {
	for _, o := range k.Orders {
		names = append(names, o.Name)
	}
	return names
}

// Cut gives one part of a list, and what to go on after; that is empty where
// nothing follows. It changes the order of items. Errors are [NoOrder] and [NoMark].
func (k Kind[T]) Cut(items []T, ask Ask) (part []T, next string, err error) {
	sort := cmp.Or(ask.Sort, k.Usual, k.Orders[0].Name)
	name, down := strings.CutPrefix(sort, "-")
	i := slices.IndexFunc(k.Orders, func(o Order[T]) bool { return o.Name == name })
	if i < 0 {
		return nil, "", NoOrder{name, k.Names()}
	}
	order := k.Orders[i]
	var from mark
	if ask.After != "" {
		if from, err = read(ask.After); err != nil {
			return nil, "", err
		}
		if from.List != k.Name || from.Sort != sort {
			return nil, "", NoMark{"is of another list or order"}
		}
	}
	type keyed struct {
		key, id string
		item    T
	}
	compare := func(a, b keyed) int {
		c := cmp.Compare(a.key, b.key)
		if down {
			c = -c
		}
		return cmp.Or(c, cmp.Compare(a.id, b.id))
	}
	all := make([]keyed, 0, len(items))
	for _, v := range items {
		e := keyed{order.Key(v), k.ID(v), v}
		if ask.After == "" || compare(e, keyed{key: from.Key, id: from.ID}) > 0 {
			all = append(all, e)
		}
	}
	slices.SortFunc(all, compare)
	most := len(all)
	if ask.Limit > 0 {
		most = min(most, ask.Limit)
	}
	part = items[:0]
	for _, e := range all[:most] {
		part = append(part, e.item)
	}
	if most < len(all) {
		last := all[most-1]
		next = mark{k.Name, sort, last.key, last.id}.write()
	}
	return part, next, nil
}

func (m mark) write() string {
	b, err := json.Marshal(m)
	if err != nil {
		panic(err) // four texts
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

func read(s string) (m mark, err error) {
	if len(s) > MaxMark {
		return m, NoMark{"is too long"}
	}
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err != nil || json.Unmarshal(b, &m) != nil {
		return m, NoMark{"cannot be read"}
	}
	return m, nil
}

// Number is a key that orders numbers by size, those below zero too.
func Number(n int64) string { return fmt.Sprintf("%016x", uint64(n)+1<<63) }
