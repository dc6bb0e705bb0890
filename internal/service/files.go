package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/reconcile"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Files looks into workspaces' files and changes them, as the workspace's user,
// beneath the workspace's folders. A helper in the workspace does it, one for each
// while somebody is at its files.
type Files struct {
	hub    reconcile.Stewards
	keeper *reconcile.Keeper
	store  *store.Store
	views  *views
	wakes  *Workspaces
	now    func() time.Time

	mu   sync.Mutex
	open map[string]*helper // by the steward's link
	told map[string]time.Time
}

const (
	// filesRest is how long a helper stays when nobody asks it.
	filesRest = time.Minute
	// filesTold is how long somebody's looking, or changing, is one entry of the
	// journal.
	filesTold = 10 * time.Minute
)

// helper is the files of one workspace while somebody is at them.
type helper struct {
	ready chan struct{} // closed when files or err is there
	files *outside.Files
	err   error
	uses  int
	rest  *time.Timer
}

// Path says whose files, and which.
type Path struct {
	Ref  string
	Path string // bytes, from the workspace folder, or absolute
	Wake bool   // have it started where it is stopped, if the house rules let that be
}

// at is the files of a workspace, for somebody who may use it; done lets go of them.
// change tells that something may be another after it.
func (s *Files) at(ctx context.Context, a Actor, p Path, change bool) (f *outside.Files, done func(), err error) {
	w, _, err := s.views.findTo(ctx, a, p.Ref, policy.UseWorkspace, "look into the files of")
	if err != nil {
		return nil, nil, err
	}
	if p.Wake {
		if err := s.wakes.Wake(ctx, a, p.Ref, "files", func(string) {}); err != nil {
			return nil, nil, about(p.Ref, a, err)
		}
		if w, err = s.store.Read().WorkspaceByID(ctx, w.ID); err != nil {
			return nil, nil, err
		}
	}
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, nil, about(p.Ref, a, fromRoom(err))
	}
	w.NextPlan = nil // the body in use, not what a rebuild is making
	link := outside.Link(w.ID, w.Body)
	h := s.use(ctx, link, w)
	select {
	case <-h.ready:
	case <-ctx.Done():
		s.leave(link, h)
		return nil, nil, ctx.Err()
	}
	if err := h.err; err != nil {
		s.leave(link, h)
		return nil, nil, about(p.Ref, a, fromRoom(err))
	}
	kind := "files-read"
	if change {
		kind = "files-changed"
	}
	if err := s.note(ctx, a, w, kind); err != nil {
		s.leave(link, h)
		return nil, nil, err
	}
	s.keeper.Status.FilesTouched(w.ID)
	return h.files, func() { s.leave(link, h) }, nil
}

// use gives the helper of a workspace, and has one begin where there is none.
func (s *Files) use(ctx context.Context, link string, w store.Workspace) *helper {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.open[link]; h != nil && !h.gone() {
		if h.uses++; h.rest != nil {
			h.rest.Stop()
		}
		return h
	}
	h := &helper{ready: make(chan struct{}), uses: 1}
	if s.open == nil {
		s.open = map[string]*helper{}
	}
	s.open[link] = h
	go func() { // whoever asked first may go before the others
		defer close(h.ready)
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
		defer cancel()
		h.files, h.err = s.begin(ctx, link, w)
	}()
	return h
}

// gone tells that a helper is of no more use.
func (h *helper) gone() bool {
	select {
	case <-h.ready:
	default:
		return false
	}
	if h.err != nil {
		return true
	}
	select {
	case <-h.files.Gone():
		return true
	default:
		return false
	}
}

// begin has a workspace's steward serve its files. What its processes are given,
// secrets say, is not given to this one.
func (s *Files) begin(ctx context.Context, link string, w store.Workspace) (*outside.Files, error) {
	def := w.Target().Definition
	p := steward.Process{User: def.User, Folder: def.Folder, Errand: steward.Tree, Argv: []string{def.Folder}, Quiet: true}
	if tree := def.TreeFolder(); tree != def.Folder {
		p.Argv = append(p.Argv, tree)
	}
	for _, b := range w.Target().Beside {
		p.Argv = append(p.Argv, b.Folder)
	}
	c, err := s.hub.Ask(ctx, link, steward.Request{Kind: steward.Run, Process: p})
	if err != nil {
		return nil, err
	}
	f, err := outside.OpenFiles(c)
	if err != nil {
		return nil, err
	}
	if _, err := f.Do(ctx, steward.FileAsk{Op: steward.FileShow}); err != nil {
		f.Close()
		return nil, fmt.Errorf("its files are not to be had: %w", err)
	}
	return f, nil
}

// leave lets go of a helper; it ends when nobody has asked it for a while.
func (s *Files) leave(link string, h *helper) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h.uses--; h.uses > 0 {
		return
	}
	h.rest = time.AfterFunc(filesRest, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if h.uses > 0 {
			return
		}
		if s.open[link] == h {
			delete(s.open, link)
		}
		if h.files != nil {
			h.files.Close()
		}
	})
}

// note writes into the journal that somebody is at files, or at changes, once in a
// while and not at which.
func (s *Files) note(ctx context.Context, a Actor, w store.Workspace, what string) error {
	key, now := w.ID+" "+a.ID+" "+what, s.now()
	s.mu.Lock()
	if s.told == nil {
		s.told = map[string]time.Time{}
	}
	if before, ok := s.told[key]; ok && now.Sub(before) < filesTold {
		s.mu.Unlock()
		return nil
	}
	for k, at := range s.told {
		if now.Sub(at) >= filesTold {
			delete(s.told, k)
		}
	}
	s.told[key] = now
	s.mu.Unlock()
	err := s.journal(ctx, a, w, what)
	if err != nil {
		s.mu.Lock()
		delete(s.told, key) // the next is to be written
		s.mu.Unlock()
	}
	return err
}

func (s *Files) journal(ctx context.Context, a Actor, w store.Workspace, what string) error {
	return s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.SessionOpened{What: what})
	})
}

// fileFault is what whoever asked is told of a problem with a file.
func fileFault(err error) error {
	var p *steward.FileProblem
	if !errors.As(err, &p) {
		return fromRoom(err)
	}
	switch p.Kind {
	case steward.FileMissing:
		return &fault.Fault{Class: fault.Missing, Kind: "not-found", Detail: p.Detail, Parts: []fault.Part{{Field: "path", Detail: "there is none"}}}
	case steward.FileThere:
		return conflict("name-taken", p.Detail, "take another name, or say that it is to be replaced")
	case steward.FileKind:
		return conflict("other-kind", p.Detail, "")
	case steward.FileDenied:
		return conflict("user-may-not", p.Detail, "change its rights in a terminal")
	case steward.FileChanged:
		return &fault.Fault{Class: fault.Stale, Kind: "changed", Detail: p.Detail, Next: "read it again, and decide anew"}
	case steward.FileFull:
		return &fault.Fault{Class: fault.NoRoom, Kind: "workspace-full", Detail: p.Detail, Next: "remove something in the workspace first"}
	case steward.FileBeyond:
		return invalidAs("beyond", p.Detail, "paths begin at the workspace folder")
	}
	return invalid(p.Detail, "")
}

// ask does one thing that is answered at once.
func (s *Files) ask(ctx context.Context, a Actor, p Path, change bool, ask steward.FileAsk) (steward.FileReply, error) {
	f, done, err := s.at(ctx, a, p, change)
	if err != nil {
		return steward.FileReply{}, err
	}
	defer done()
	ask.Path = []byte(p.Path)
	r, err := f.Do(ctx, ask)
	return r, fileFault(err)
}

func one(r steward.FileReply, err error) (wire.File, error) {
	if err == nil && r.Entry == nil {
		err = fromRoom(outside.Refused("the workspace's helper says nothing of the file"))
	}
	if err != nil {
		return wire.File{}, err
	}
	return fileOf(*r.Entry), nil
}

// Show tells of one file, folder or link.
func (s *Files) Show(ctx context.Context, a Actor, p Path) (wire.File, error) {
	return one(s.ask(ctx, a, p, false, steward.FileAsk{Op: steward.FileShow}))
}

// List gives a part of a folder: folders first, each by the bytes of its name.
func (s *Files) List(ctx context.Context, a Actor, p Path, after string, limit int) (Part[wire.File], error) {
	r, err := s.ask(ctx, a, p, false, steward.FileAsk{Op: steward.FileList, After: []byte(after), Limit: limit})
	if err != nil {
		return Part[wire.File]{}, err
	}
	out := Part[wire.File]{Items: make([]wire.File, len(r.Entries)), Next: string(r.Next)}
	for i, e := range r.Entries {
		out.Items[i] = fileOf(e)
	}
	return out, nil
}

// Folder makes a folder, with those above it.
func (s *Files) Folder(ctx context.Context, a Actor, p Path) (wire.File, error) {
	return one(s.ask(ctx, a, p, true, steward.FileAsk{Op: steward.FileFolder}))
}

// Move gives a file or folder another path; over what is there, if over says so.
func (s *Files) Move(ctx context.Context, a Actor, p Path, to string, over bool) (wire.File, error) {
	return one(s.ask(ctx, a, p, true, steward.FileAsk{Op: steward.FileMove, To: []byte(to), All: over}))
}

// Remove removes a file, or a folder: with what is in it, if all says so.
func (s *Files) Remove(ctx context.Context, a Actor, p Path, all bool) error {
	_, err := s.ask(ctx, a, p, true, steward.FileAsk{Op: steward.FileRemove, All: all, Tags: wantedTags(ctx)})
	return s.stale(ctx, a, p, err)
}

// stale says with a refusal how the file is now.
func (s *Files) stale(ctx context.Context, a Actor, p Path, err error) error {
	var f *fault.Fault
	if errors.As(err, &f) && f.Class == fault.Stale {
		if now, err := s.Show(ctx, a, p); err == nil {
			f.Now = now
		}
	}
	return err
}

// Content is a file that is read, and reads it.
type Content struct {
	wire.File
	ctx    context.Context
	files  *outside.Files
	path   []byte
	at     int64
	from   *io.PipeReader
	finish func()
}

// Open opens a file for reading; it is its caller's to close.
func (s *Files) Open(ctx context.Context, a Actor, p Path) (*Content, error) {
	f, done, err := s.at(ctx, a, p, false)
	if err != nil {
		return nil, err
	}
	c := &Content{ctx: ctx, files: f, path: []byte(p.Path), finish: done}
	err = f.Read(ctx, c.path, 0, 0, io.Discard, func(e steward.FileEntry) error { c.File = fileOf(e); return nil })
	if err != nil {
		done()
		return nil, fileFault(err)
	}
	return c, nil
}

// Seek goes to a place, as [io.Seeker] has it.
func (c *Content) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += c.at
	case io.SeekEnd:
		offset += c.Bytes
	}
	if offset < 0 {
		return c.at, errors.New("before the beginning")
	}
	if offset != c.at {
		c.stop()
	}
	c.at = offset
	return offset, nil
}

func (c *Content) stop() {
	if c.from != nil {
		c.from.Close()
		c.from = nil
	}
}

// Read reads on. A file that became shorter ends with an error.
func (c *Content) Read(p []byte) (int, error) {
	if c.at >= c.Bytes {
		return 0, io.EOF
	}
	if c.from == nil {
		r, w := io.Pipe()
		c.from = r
		offset, length := c.at, c.Bytes-c.at
		go func() {
			err := c.files.Read(c.ctx, c.path, offset, length, w, func(e steward.FileEntry) error {
				if fileOf(e).State != c.State {
					return errors.New("it was changed while it was read")
				}
				return nil
			})
			if err == nil {
				err = io.ErrUnexpectedEOF // of no concern to whoever has read it all
			}
			w.CloseWithError(err)
		}()
	}
	n, err := c.from.Read(p)
	c.at += int64(n)
	return n, err
}

// Close ends the reading.
func (c *Content) Close() error {
	c.stop()
	c.finish()
	return nil
}

// Write makes content a file, in one step; fresh wants that none is there.
func (s *Files) Write(ctx context.Context, a Actor, p Path, fresh bool, content io.Reader) (wire.File, error) {
	f, done, err := s.at(ctx, a, p, true)
	if err != nil {
		return wire.File{}, err
	}
	defer done()
	r, err := f.Send(ctx, steward.FileAsk{Op: steward.FileWrite, Path: []byte(p.Path), New: fresh, Tags: wantedTags(ctx)}, content)
	out, err := one(r, fileFault(err))
	return out, s.stale(ctx, a, p, err)
}

// Unpack brings an archive's content beneath a folder.
func (s *Files) Unpack(ctx context.Context, a Actor, p Path, form string, archive io.Reader) (wire.Brought, error) {
	f, done, err := s.at(ctx, a, p, true)
	if err != nil {
		return wire.Brought{}, err
	}
	defer done()
	r, err := f.Send(ctx, steward.FileAsk{Op: steward.FileUnpack, Path: []byte(p.Path), Form: form}, archive)
	return wire.Brought{Files: max(0, r.Files), Bytes: max(0, r.Bytes), Left: max(0, r.Left)}, fileFault(err)
}

// Pack writes what is at a path as an archive; with names, each ended by a zero
// byte, only those beneath it. began is called before the first byte.
func (s *Files) Pack(ctx context.Context, a Actor, p Path, form string, names io.Reader, w io.Writer, began func() error) error {
	f, done, err := s.at(ctx, a, p, false)
	if err != nil {
		return err
	}
	defer done()
	_, err = f.Pack(ctx, steward.FileAsk{Path: []byte(p.Path), Form: form}, names, w, began)
	return fileFault(err)
}

// Search says what is searched; see the API.
type Search struct {
	Named, Text            string
	Expression, Exact, All bool
	Limit                  int
}

// Search tells what it finds beneath a folder; the last is over.
func (s *Files) Search(ctx context.Context, a Actor, p Path, q Search, found func(wire.Found) error) error {
	f, done, err := s.at(ctx, a, p, false)
	if err != nil {
		return err
	}
	defer done()
	ask := steward.FileAsk{Op: steward.FileSearch, Path: []byte(p.Path), Named: q.Named, Text: q.Text, Expression: q.Expression, Exact: q.Exact, All: q.All, Limit: q.Limit}
	told := 0
	return fileFault(f.Follow(ctx, ask, func(n steward.FileNews) error {
		if told++; told > q.Limit+1 {
			return outside.Refused("the workspace's helper finds more than was asked")
		}
		out := wire.Found{Line: n.Line, Column: n.Column, Length: n.Length, Text: strings.ToValidUTF8(string(n.Text), "\uFFFD"), From: n.From, Over: n.Over, More: n.More}
		out.Path, out.Raw = text(n.Path)
		if n.Entry != nil {
			e := fileOf(*n.Entry)
			out.File = &e
		}
		return found(out)
	}))
}

// Watch tells what changes beneath a folder, until ctx ends.
func (s *Files) Watch(ctx context.Context, a Actor, p Path, changed func(wire.FileChange) error) error {
	f, done, err := s.at(ctx, a, p, false)
	if err != nil {
		return err
	}
	defer done()
	return fileFault(f.Follow(ctx, steward.FileAsk{Op: steward.FileWatch, Path: []byte(p.Path)}, func(n steward.FileNews) error {
		if n.Over {
			return outside.ErrAway
		}
		out := wire.FileChange{Anew: n.Anew}
		out.Path, out.Raw = text(n.Path)
		return changed(out)
	}))
}

// text is a name as text, and its bytes where they are none.
func text(p []byte) (string, []byte) {
	if utf8.Valid(p) {
		return string(p), nil
	}
	return strings.ToValidUTF8(string(p), "\uFFFD"), p
}

func fileOf(e steward.FileEntry) wire.File {
	out := wire.File{Kind: e.Kind, Bytes: e.Bytes, ModifiedAt: time.Unix(0, e.ModifiedNS).UTC(), Mode: fmt.Sprintf("%04o", e.Mode&0o7777), Leads: e.Leads, State: e.Tag}
	out.Name, out.Raw = text(e.Name)
	out.Target, _ = text(e.Target)
	return out
}
