package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"yardbench/wire"
)

// aligned is a table for people: columns, no frame.
type aligned struct {
	w   table.Writer
	out io.Writer
}

// table begins a table with a head, unless that is to be left out.
func (a *app) table(out io.Writer, head ...string) *aligned {
	t := &aligned{w: table.NewWriter(), out: out}
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	style.Format.Header = text.FormatDefault
	t.w.SetStyle(style)
	if !a.noHead {
		t.w.AppendHeader(cells(head))
	}
	return t
}

func cells(values []string) table.Row {
	r := table.Row{}
	for _, v := range values {
		r = append(r, clean(v))
	}
	return r
}

func (t *aligned) row(values ...string) { t.w.AppendRow(cells(values)) }

// right aligns columns, numbered from 1, to the right.
func (t *aligned) right(columns ...int) {
	var cs []table.ColumnConfig
	for _, c := range columns {
		cs = append(cs, table.ColumnConfig{Number: c, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.w.SetColumnConfigs(cs)
}

func (t *aligned) print() {
	for _, l := range strings.Split(t.w.Render(), "\n") {
		fmt.Fprintln(t.out, strings.TrimRight(l, " "))
	}
}

// clock is in which zone times are told: that of the house, so that everybody who speaks
// of a time speaks of the same; or of whoever says so by TZ.
var clock struct {
	mu    sync.Mutex
	zone  *time.Location // nil until the service has said it
	named bool           // that it is not this machine's was said
}

// tellIn has times be told in the zone of that name from now on.
func tellIn(name string) {
	zone, err := time.LoadLocation(name)
	if err != nil || os.Getenv("TZ") != "" {
		return
	}
	clock.mu.Lock()
	defer clock.mu.Unlock()
	clock.zone = zone
}

// local is a time as people are told it. Where the house is in another zone than this
// machine, name is what it is called there, once.
func local(t time.Time) (in time.Time, name string) {
	clock.mu.Lock()
	defer clock.mu.Unlock()
	if clock.zone == nil {
		return t.Local(), ""
	}
	in = t.In(clock.zone)
	_, there := in.Zone()
	if _, here := t.Local().Zone(); here != there && !clock.named {
		clock.named, name = true, in.Format(" MST")
	}
	return in, name
}

// when is a time for people.
func when(t time.Time) string {
	t, zone := local(t)
	if now := time.Now().In(t.Location()); t.Year() == now.Year() && t.YearDay() == now.YearDay() {
		return "today " + t.Format("15:04") + zone
	}
	return t.Format("2006-01-02 15:04") + zone
}

// took is a duration for people.
func took(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.2f s", max(d, 0).Seconds())
	case d < 100*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// state is a phase with its conditions, in one cell.
func state(phase, failedIn string, conditions []wire.Condition) string {
	s := phase
	if phase == "failed" && failedIn != "" {
		s += " in " + failedIn
	}
	for _, c := range conditions {
		s += ", " + c.Kind
	}
	return s
}

// paint colours a text on a terminal that knows colours, never with NO_COLOR
// (no-color.org).
func (a *app) paint(c text.Color, s string) string {
	if os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb" || !isTerminal(a.out) || !isTerminal(a.err) {
		return s
	}
	return c.Sprint(s)
}
