package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/steward"
	"yardbench/wire"
)

func (a portCommands) forward() *cobra.Command {
	var all bool
	var into []string
	c := &cobra.Command{
		Use: "forward NAME [PORT[:HERE][/udp]...]", Short: "Bring ports of a workspace to this machine's localhost, or the other way",
		Long: "Bring ports of a workspace to this machine's localhost, until Ctrl-C. What listens on loopback only in the workspace is reached too. With --into, a port of this machine is brought to the workspace's localhost. " +
			"It goes on over a rebuild, a stop and a start of the workspace, and a restart of the service: each connection is made anew. A stopped workspace is started at the beginning, where the house rules let that be.",
		Example: "  yardbench forward tide-board 8000\n  yardbench forward tide-board 8000:9000 5432 5353/udp\n  yardbench forward tide-board --all --into 3000", Args: cobra.MinimumNArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			ctx, name := cmd.Context(), args[0]
			ways, err := waysOf(args[1:], into)
			if err != nil {
				return usage{err}
			}
			if len(ways) == 0 && !all {
				return usage{errors.New("say which ports: yardbench forward NAME 8000, or --all")}
			}
			w, err := api.Workspaces.Show(ctx, name)
			if err != nil {
				return err
			}
			var ports []wire.Port
			if w.Phase != "ready" {
				fmt.Fprintf(a.err, "%s is %s; it is started, if that may be\n", w.Name, w.Phase)
			}
			if w.Phase != "ready" || all {
				if ports, err = api.Ports.List(ctx, name, true); err != nil {
					return err
				}
			}
			for _, p := range ports {
				if all && !slices.ContainsFunc(ways, func(f way) bool { return !f.into && !f.udp && f.there == p.Number }) {
					ways = append(ways, way{there: p.Number, here: p.Number})
				}
			}
			if len(ways) == 0 {
				return &wire.Problem{Status: 409, Detail: w.Name + " declares no port, and nothing listens in it", Next: "name one: yardbench forward " + w.Name + " 8000"}
			}
			return (&forwarding{app: a.app, api: api, name: w.Name, ref: w.Name + "." + w.Owner}).run(ctx, ways)
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "those that its definition declares and that something listens on, each at the same number here")
	c.Flags().StringSliceVar(&into, "into", nil, "a port of this machine that the workspace reaches at its localhost: HERE[:THERE]")
	return c
}

// way is a port there and one here; here 0 is any.
type way struct {
	there, here int
	udp         bool
	into        bool // what comes there is led here
}

// waysOf reads 8000, 8000:9000 and 5353/udp, and what is led into the workspace.
func waysOf(args, into []string) (out []way, err error) {
	for i, arg := range append(slices.Clone(args), into...) {
		w := way{into: i >= len(args)}
		ports, udp := strings.CutSuffix(arg, "/udp")
		w.udp = udp
		first, second, two := strings.Cut(ports, ":")
		if !two {
			second = first
		}
		f, err1 := strconv.ParseUint(first, 10, 16)
		s, err2 := strconv.ParseUint(second, 10, 16)
		switch w.there, w.here = int(f), int(s); {
		case err1 != nil || err2 != nil || f == 0:
			return nil, fmt.Errorf("%q is no port; write 8000, or 8000:9000 for another port on the other side", arg)
		case w.into && (udp || s == 0):
			return nil, fmt.Errorf("%q cannot be led into a workspace: that is TCP, and both ports are named", arg)
		}
		if w.into {
			w.here, w.there = w.there, w.here
		}
		out = append(out, w)
	}
	return out, nil
}

// forwarding is what goes on until Ctrl-C.
type forwarding struct {
	*app
	api       *client.Client
	name, ref string // the workspace
	mu        sync.Mutex
	lines     []*forwardLine
	drawn     int    // lines of the table that is shown
	last      string // what it says
}

// forwardLine is how one way stands.
type forwardLine struct {
	way
	at        string // the address here
	open, all atomic.Int64
	carried   atomic.Int64 // bytes
	mu        sync.Mutex
	trouble   string
}

func (l *forwardLine) set(trouble string) (changed bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	changed = l.trouble != trouble
	l.trouble = trouble
	return changed
}

// run brings ports until ctx ends. It begins with all of them or none.
func (f *forwarding) run(ctx context.Context, ways []way) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var wg sync.WaitGroup
	defer wg.Wait()
	defer cancel()
	for _, w := range ways {
		line := &forwardLine{way: w}
		serve, err := f.open(ctx, line)
		if err != nil {
			return err
		}
		f.lines = append(f.lines, line)
		wg.Go(func() { serve(); cancel() })
	}
	live := isTerminal(os.Stderr)
	for _, l := range f.lines {
		if !live {
			fmt.Fprintf(f.err, "%s\n", f.says(l))
		}
	}
	beat := time.NewTicker(250 * time.Millisecond)
	defer beat.Stop()
	for {
		if live {
			f.draw()
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-beat.C:
		}
	}
}

func (f *forwarding) says(l *forwardLine) string {
	kind := map[bool]string{true: " (UDP)"}[l.udp]
	if l.into {
		return fmt.Sprintf("localhost:%d in %s is %s here, until Ctrl-C", l.there, f.name, l.at)
	}
	return fmt.Sprintf("%s is port %d%s of %s, until Ctrl-C", l.at, l.there, kind, f.name)
}

// draw shows how everything stands, in place of what it showed before.
func (f *forwarding) draw() {
	f.mu.Lock()
	defer f.mu.Unlock()
	var b bytes.Buffer
	t := f.table(&b, "HERE", "", "IN "+strings.ToUpper(f.name), "OPEN", "SO FAR", "CARRIED", "")
	for _, l := range f.lines {
		l.mu.Lock()
		trouble := l.trouble
		l.mu.Unlock()
		t.row(l.at, map[bool]string{true: "<-", false: "->"}[l.into], strconv.Itoa(l.there)+map[bool]string{true: "/udp"}[l.udp], strconv.FormatInt(l.open.Load(), 10), strconv.FormatInt(l.all.Load(), 10), volume(l.carried.Load()), cmp.Or(trouble, "ready"))
	}
	t.print()
	text := b.String()
	if text == f.last {
		return
	}
	if f.drawn > 0 {
		fmt.Fprintf(f.err, "\x1b[%dA\x1b[J", f.drawn)
	}
	fmt.Fprint(f.err, text)
	f.last, f.drawn = text, strings.Count(text, "\n")
}

// trouble tells what is wrong with a way, once.
func (f *forwarding) trouble(l *forwardLine, err error) {
	text := ""
	if err != nil {
		text, _, _ = strings.Cut(err.Error(), "\n")
	}
	if l.set(clean(text)) && text != "" && !isTerminal(os.Stderr) {
		f.say(f.told(err))
	}
}

// open opens a way's end that listens, and gives what serves it until ctx ends.
func (f *forwarding) open(ctx context.Context, l *forwardLine) (serve func(), err error) {
	if l.into {
		l.at = net.JoinHostPort("localhost", strconv.Itoa(l.here))
		on, err := f.api.Ports.Listen(ctx, f.ref, l.there)
		return func() { f.take(ctx, l, on) }, err
	}
	at := net.JoinHostPort("127.0.0.1", strconv.Itoa(l.here))
	busy := func(err error) error {
		return fmt.Errorf("cannot listen here: %w\nchoose another port here: yardbench forward %s %d:9000", err, f.name, l.there)
	}
	if l.udp {
		on, err := net.ListenPacket("udp", at)
		if err != nil {
			return nil, busy(err)
		}
		l.at = on.LocalAddr().String()
		return func() { f.packets(ctx, l, on) }, nil
	}
	on, err := net.Listen("tcp", at)
	if err != nil {
		return nil, busy(err)
	}
	l.at = on.Addr().String()
	return func() { f.accept(ctx, l, on) }, nil
}

// metered counts what goes over a connection.
type metered struct {
	net.Conn
	n *atomic.Int64
}

func (c metered) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.n.Add(int64(n))
	return n, err
}

func (c metered) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.n.Add(int64(n))
	return n, err
}

func (l *forwardLine) came() (gone func()) {
	l.all.Add(1)
	l.open.Add(1)
	return func() { l.open.Add(-1) }
}

// accept leads what comes here into the workspace.
func (f *forwarding) accept(ctx context.Context, l *forwardLine, on net.Listener) {
	stop := context.AfterFunc(ctx, func() { on.Close() })
	defer stop()
	for {
		conn, err := on.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			defer l.came()()
			if err := f.api.Ports.Tunnel(ctx, f.ref, l.there, metered{conn, &l.carried}); ctx.Err() == nil {
				f.trouble(l, err)
			}
		}()
	}
}

// take leads what comes in the workspace here. When the link breaks it listens there
// again, as soon as that can be.
func (f *forwarding) take(ctx context.Context, l *forwardLine, on *client.Listener) {
	for wait := 500 * time.Millisecond; ctx.Err() == nil; {
		if on != nil {
			f.trouble(l, nil)
			wait = 500 * time.Millisecond
			stop := context.AfterFunc(ctx, func() { on.Close() })
			for {
				conn, err := on.Accept()
				if err != nil {
					break
				}
				go func() {
					defer conn.Close()
					defer l.came()()
					here, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", l.at)
					if err != nil {
						f.trouble(l, fmt.Errorf("nothing here takes it: %w", err))
						return
					}
					defer here.Close()
					f.trouble(l, nil)
					steward.Relay(here, metered{conn, &l.carried})
				}()
			}
			stop()
			on.Close()
			if ctx.Err() == nil {
				f.trouble(l, errors.New("the link broke; it is made again"))
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = min(2*wait, 10*time.Second)
		var err error
		if on, err = f.api.Ports.Listen(ctx, f.ref, l.there); err != nil {
			on = nil
			f.trouble(l, err)
		}
	}
}

// maxPeers bounds who sends datagrams to one port here at once.
const maxPeers = 128

// packets leads datagrams into the workspace, and answers to whoever sent them.
func (f *forwarding) packets(ctx context.Context, l *forwardLine, on net.PacketConn) {
	stop := context.AfterFunc(ctx, func() { on.Close() })
	defer stop()
	var mu sync.Mutex
	peers := map[string]chan []byte{}
	buf := make([]byte, steward.MaxDatagram)
	for {
		n, from, err := on.ReadFrom(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		l.carried.Add(int64(n))
		mu.Lock()
		to := peers[from.String()]
		if to == nil && len(peers) < maxPeers {
			to = make(chan []byte, 64)
			peers[from.String()] = to
			go func() {
				defer l.came()()
				err := f.exchange(ctx, l, on, from, to)
				mu.Lock()
				delete(peers, from.String())
				mu.Unlock()
				if ctx.Err() == nil {
					f.trouble(l, err)
				}
			}()
		}
		mu.Unlock()
		select { // what there is no room for is lost, as datagrams may be
		case to <- append([]byte(nil), buf[:n]...):
		default:
		}
	}
}

// exchange carries the datagrams of one who sends some, until there are none any more.
func (f *forwarding) exchange(ctx context.Context, l *forwardLine, on net.PacketConn, from net.Addr, sent <-chan []byte) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	d, err := f.api.Ports.Datagrams(ctx, f.ref, l.there)
	if err != nil {
		return err
	}
	defer d.Close()
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case p := <-sent:
				if d.Send(p) != nil {
					d.Close()
					return
				}
			}
		}
	}()
	for {
		p, err := d.Receive()
		if problem, ok := errors.AsType[*wire.Problem](err); ok {
			return problem
		}
		if err != nil {
			return nil // it is over
		}
		l.carried.Add(int64(len(p)))
		if _, err := on.WriteTo(p, from); err != nil {
			return fmt.Errorf("answer here: %w", err)
		}
	}
}
