package inside

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// How often things are looked at while the service watches.
const (
	lookEvery     = time.Second
	activityEvery = 5 * time.Second  // signs of work are told at most so often
	repeatEvery   = 30 * time.Second // without news
	measureEvery  = 5 * time.Second  // processor use is measured over so long
	diskEvery     = 2 * time.Minute
	diskShare     = 50 // between two walks passes so many times what one takes
	maxPorts      = 200
	maxHolders    = 100
)

// sign is the last time something showed that the workspace is worked in.
type sign struct{ at atomic.Int64 }

func (s *sign) mark() { s.at.Store(time.Now().UnixMilli()) }

// ago is how long ago in milliseconds; -1 for never.
func (s *sign) ago() int64 {
	if at := s.at.Load(); at > 0 {
		return max(0, time.Now().UnixMilli()-at)
	}
	return -1
}

// signs are all of them.
type signs struct{ typed, read, busy sign }

// seen is a writer whose output somebody reads.
type seen struct {
	io.Writer
	sign *sign
}

func (s seen) Write(p []byte) (int, error) {
	s.sign.mark()
	return s.Writer.Write(p)
}

// Bounds on what is read of a process at once: little of one that prints little.
const (
	leastRead = 4 << 10
	mostRead  = 256 << 10
)

// widen has a pipe hold as much as is read at once, where the system lets it.
func widen(pipe syscall.Conn) {
	if raw, err := pipe.SyscallConn(); err == nil {
		_ = raw.Control(func(fd uintptr) { _, _ = unix.FcntlInt(fd, unix.F_SETPIPE_SZ, mostRead) }) // it stays as it is
	}
}

// ReadFrom passes on what a process prints, in pieces that grow with how fast it
// does: fewer and larger ones cost less on their way.
func (s seen) ReadFrom(r io.Reader) (n int64, err error) {
	if pipe, ok := r.(syscall.Conn); ok {
		widen(pipe)
	}
	buf := make([]byte, leastRead)
	for {
		got, err := r.Read(buf)
		if got > 0 {
			n += int64(got)
			if _, err := s.Write(buf[:got]); err != nil {
				return n, err
			}
			if got == len(buf) && got < mostRead {
				buf = make([]byte, 2*got)
			}
		}
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// watch tells the service how things stand, whenever that changes, until the
// stream ends.
func (s *server) watch(c *steward.Conn, r steward.Request) {
	gone := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.Discard, c.Stream) // ends with the stream
		close(gone)
	}()
	var told steward.Status
	var toldAt, measuredAt, diskAt time.Time
	var diskWait time.Duration
	used, _ := cpuTime()
	owners := map[string]string{}
	var disk int64
	first := true
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		now := time.Now()
		if now.Sub(measuredAt) >= measureEvery {
			if u, ok := cpuTime(); ok {
				if !measuredAt.IsZero() && (u-used).Milliseconds()*1000 > r.FloorMilli*now.Sub(measuredAt).Milliseconds() {
					s.signs.busy.mark()
				}
				used = u
			}
			measuredAt = now
		}
		if now.Sub(diskAt) >= diskWait && r.Process.Folder != "" {
			disk = diskUse(r.Process.Folder)
			diskAt, diskWait = now, max(diskEvery, diskShare*time.Since(now)) // a large tree is walked less often
		}
		st := steward.Status{Ports: listening(owners), TypedMS: s.signs.typed.ago(), ReadMS: s.signs.read.ago(), BusyMS: s.signs.busy.ago(), Holders: s.holders(), DiskBytes: disk, FolderFull: full(r.Process.Folder), RootFull: full("/")}
		changed := first || !reflect.DeepEqual(st.Ports, told.Ports) || !sameHolders(st.Holders, told.Holders) || st.DiskBytes != told.DiskBytes || st.FolderFull != told.FolderFull || st.RootFull != told.RootFull
		worked := newer(st.TypedMS, toldAt) || newer(st.ReadMS, toldAt) || newer(st.BusyMS, toldAt)
		if changed || now.Sub(toldAt) >= repeatEvery || (worked && now.Sub(toldAt) >= activityEvery) {
			if c.Send(st) != nil {
				return
			}
			told, toldAt, first = st, now, false
		}
		select {
		case <-gone:
			return
		case <-tick.C:
		}
	}
}

// newer tells whether a sign came after at.
func newer(ago int64, at time.Time) bool {
	return ago >= 0 && time.Now().Add(-time.Duration(ago)*time.Millisecond).After(at)
}

func (s *server) holders() (out []steward.Holder) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, h := range s.procs {
		if len(h.secrets) > 0 && len(out) < maxHolders {
			label := h.label
			if len(label) > 60 {
				label = label[:60] + "…"
			}
			out = append(out, steward.Holder{Label: label, SinceMS: time.Since(h.since).Milliseconds(), Secrets: h.secrets})
		}
	}
	sort.Slice(out, func(a, b int) bool { return out[a].SinceMS > out[b].SinceMS })
	return out
}

func sameHolders(a, b []steward.Holder) bool {
	return slices.EqualFunc(a, b, func(x, y steward.Holder) bool { return x.Label == y.Label && reflect.DeepEqual(x.Secrets, y.Secrets) })
}

// cpuTime is the processor time that the container has used: from its
// control group, either version.
func cpuTime() (time.Duration, bool) {
	if b, err := os.ReadFile("/sys/fs/cgroup/cpuacct/cpuacct.usage"); err == nil {
		n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
		return time.Duration(n), err == nil
	}
	if b, err := os.ReadFile("/sys/fs/cgroup/cpu.stat"); err == nil {
		if _, rest, ok := strings.Cut(string(b), "usage_usec "); ok {
			line, _, _ := strings.Cut(rest, "\n")
			n, err := strconv.ParseInt(line, 10, 64)
			return time.Duration(n) * time.Microsecond, err == nil
		}
	}
	return 0, false
}

// diskUse sums the blocks of a folder, a file of several names once for each.
func diskUse(folder string) (total int64) {
	_ = filepath.WalkDir(folder, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went meanwhile, or is not to be read: the rest still counts
		}
		if info, err := d.Info(); err == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				total += st.Blocks * 512
			}
		}
		return nil
	})
	return total
}

// full tells whether the file system that holds a folder has less than 1 MiB of
// room for who is not root.
func full(folder string) bool {
	var s syscall.Statfs_t
	return folder != "" && syscall.Statfs(folder, &s) == nil && s.Blocks > 0 && s.Bavail*uint64(s.Bsize) < 1<<20
}

// listening lists the TCP ports that something listens on, by number. owners
// remembers which process has which socket; it forgets when it has grown.
func listening(owners map[string]string) []steward.Port {
	type entry struct {
		inode    string
		loopback bool
		uid      uint32
	}
	found := map[int]entry{}
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(file)
		if err != nil {
			continue
		}
		sc := bufio.NewScanner(io.LimitReader(f, 4<<20))
		for sc.Scan() {
			// proc(5): sl local_address rem_address st ... uid timeout inode
			w := strings.Fields(sc.Text())
			if len(w) < 10 || w[3] != "0A" {
				continue
			}
			addr, port, ok := socketAddress(w[1])
			if !ok || addr == engineResolver {
				continue
			}
			uid, err := strconv.ParseUint(w[7], 10, 32)
			if err != nil {
				continue
			}
			if old, is := found[port]; !is || (old.loopback && !addr.IsLoopback()) {
				found[port] = entry{w[9], addr.IsLoopback(), uint32(uid)}
			}
		}
		f.Close()
	}
	if len(owners) > 10_000 {
		clear(owners)
	}
	asked := map[uint32]bool{}
	for _, e := range found {
		if _, ok := owners[e.inode]; !ok && !asked[e.uid] {
			asked[e.uid] = true
			nameSockets(e.uid, owners)
		}
	}
	out := []steward.Port{}
	for port, e := range found {
		process, ok := owners[e.inode]
		if !ok {
			owners[e.inode] = "" // nobody's that can be seen; not looked for again
		}
		if process == "steward" || len(out) >= maxPorts {
			continue // our own
		}
		out = append(out, steward.Port{Number: port, Process: process, Loopback: e.loopback})
	}
	sort.Slice(out, func(a, b int) bool { return out[a].Number < out[b].Number })
	return out
}

// socketAddress reads an address of /proc/net/tcp: words of four bytes in the
// machine's order, then the port.
func socketAddress(s string) (netip.Addr, int, bool) {
	host, p, _ := strings.Cut(s, ":")
	port, err := strconv.ParseUint(p, 16, 16)
	b, herr := hex.DecodeString(host)
	if err != nil || herr != nil || len(b)%4 != 0 {
		return netip.Addr{}, 0, false
	}
	for i := 0; i < len(b); i += 4 {
		binary.BigEndian.PutUint32(b[i:], binary.NativeEndian.Uint32(b[i:]))
	}
	a, ok := netip.AddrFromSlice(b)
	return a.Unmap(), int(port), ok
}

// engineResolver is where the container engine answers names in every
// container, with a socket that no process of it has.
var engineResolver = netip.AddrFrom4([4]byte{127, 0, 0, 11})

// nameSockets learns which process has which socket of a user's. A container's
// root may not look into other users' processes: the user's own eyes are
// borrowed.
func nameSockets(uid uint32, owners map[string]string) {
	if uid == uint32(os.Getuid()) {
		sockets(func(inode, process string) { owners[inode] = process })
		return
	}
	self, err := os.Executable()
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, self, "sockets")
	cmd.Env, cmd.Dir = []string{}, "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	out, _ := cmd.Output() // without it the port has no name
	for _, l := range strings.Split(string(out), "\n") {
		if inode, process, ok := strings.Cut(l, " "); ok {
			owners[inode] = process
		}
	}
}

// Sockets prints the sockets that this user's processes have, a line each: the
// inode and the process's name.
func Sockets() int {
	sockets(func(inode, process string) { fmt.Println(inode, process) })
	return 0
}

func sockets(found func(inode, process string)) {
	procs, _ := filepath.Glob("/proc/[0-9]*") // the pattern is sound
	for _, p := range procs {
		fds, err := os.ReadDir(p + "/fd")
		if err != nil {
			continue
		}
		var name string
		for _, fd := range fds {
			l, err := os.Readlink(p + "/fd/" + fd.Name())
			inode, ok := strings.CutPrefix(l, "socket:[")
			if err != nil || !ok {
				continue
			}
			if name == "" {
				b, _ := os.ReadFile(p + "/comm") // a process that ended has no name
				name = strings.TrimSpace(string(b))
				name = name[:min(len(name), 40)]
			}
			found(strings.TrimSuffix(inode, "]"), name)
		}
	}
}

// dial connects a stream to a port of the workspace, loopback first: what
// listens there only is reached too.
func (s *server) dial(c *steward.Conn, service string, port int) {
	var conn net.Conn
	var err error
	hosts := []string{"127.0.0.1", "::1"}
	if service != "" {
		hosts = []string{service}
	}
	for _, host := range hosts {
		if conn, err = net.DialTimeout("tcp", net.JoinHostPort(host, strconv.Itoa(port)), 5*time.Second); err == nil {
			break
		}
	}
	if err != nil {
		_ = c.Send(steward.Reply{Problem: fmt.Sprintf("nothing listens on port %d", port)}) // a stream that broke has no reader
		return
	}
	defer conn.Close()
	if c.Send(steward.Reply{}) != nil {
		return
	}
	var wg sync.WaitGroup
	wg.Go(func() {
		_, _ = io.Copy(conn, c.Stream)
		if t, ok := conn.(*net.TCPConn); ok {
			_ = t.CloseWrite() // what it still answers comes through
		}
	})
	_, _ = io.Copy(c.Stream, conn)
	c.Stream.Close()
	wg.Wait()
}
