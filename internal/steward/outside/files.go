package outside

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/hashicorp/yamux"

	"yardbench/internal/core/plain"
	"yardbench/internal/steward"
)

// Files is the files of one workspace, as its steward's errand serves them. What
// it says is hostile: it is bounded, and what is no name is no entry.
type Files struct {
	session *yamux.Session
}

// OpenFiles speaks with the errand [steward.Tree] over its stream, which is closed
// with the files.
func OpenFiles(c *steward.Conn) (*Files, error) {
	s, err := yamux.Client(steward.NewPipe(c), steward.Errands())
	if err != nil {
		c.Stream.Close()
		return nil, fmt.Errorf("%w: %w", ErrAway, err)
	}
	return &Files{s}, nil
}

// Close ends the errand.
func (f *Files) Close() error { return f.session.Close() }

// Gone is closed when the errand has ended.
func (f *Files) Gone() <-chan struct{} { return f.session.CloseChan() }

// fileTime bounds what is answered at once: a list, a move.
const fileTime = time.Minute

// ask opens a stream with one operation. It is closed with ctx.
func (f *Files) ask(ctx context.Context, a steward.FileAsk) (*steward.Conn, func(), error) {
	stream, err := f.session.OpenStream()
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrAway, err)
	}
	stop := context.AfterFunc(ctx, func() { stream.Close(); _ = stream.SetDeadline(time.Now()) })
	c := &steward.Conn{Stream: stream}
	if err := c.Send(a); err != nil {
		stop()
		stream.Close()
		return nil, nil, f.lost(ctx, err)
	}
	return c, func() { stop(); stream.Close() }, nil
}

// lost is what is said where the errand does not answer.
func (f *Files) lost(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: %w", ErrAway, err)
}

// reply reads an answer.
func (f *Files) reply(ctx context.Context, c *steward.Conn) (r steward.FileReply, err error) {
	if err := c.Receive(&r); err != nil {
		return r, f.lost(ctx, err)
	}
	return r, held(&r)
}

// held holds an answer to what may be said; its problem is an error.
func held(r *steward.FileReply) error {
	if p := r.Problem; p != nil {
		p.Kind, p.Detail = plain.Line(p.Kind, 40), plain.Line(p.Detail, maxProblem)
		return p
	}
	if len(r.Entries) > steward.MaxFilePart || len(r.Next) > steward.MaxFilePath {
		return Refused("the workspace's helper answers with more than was asked")
	}
	for i := range r.Entries {
		if !entry(&r.Entries[i]) {
			return Refused("the workspace's helper names what is no file")
		}
	}
	if r.Entry != nil && !entry(r.Entry) {
		return Refused("the workspace's helper names what is no file")
	}
	return nil
}

// entry tells whether one can be: its name is one name.
func entry(e *steward.FileEntry) bool {
	switch e.Kind {
	case "file", "folder", "link", "other":
	default:
		return false
	}
	if e.Leads != "file" && e.Leads != "folder" {
		e.Leads = ""
	}
	e.Tag = plain.Line(strings.ReplaceAll(e.Tag, `"`, ""), 80)
	return len(e.Name) > 0 && len(e.Name) < 256 && bytes.IndexByte(e.Name, '/') < 0 && bytes.IndexByte(e.Name, 0) < 0 && e.Bytes >= 0 && len(e.Target) <= steward.MaxFilePath
}

// Do does what is answered at once.
func (f *Files) Do(ctx context.Context, a steward.FileAsk) (steward.FileReply, error) {
	ctx, cancel := context.WithTimeout(ctx, fileTime)
	defer cancel()
	c, done, err := f.ask(ctx, a)
	if err != nil {
		return steward.FileReply{}, err
	}
	defer done()
	return f.reply(ctx, c)
}

// Read passes on a file's content, from an offset on; -1 is all that is left.
// began is told of the file before.
func (f *Files) Read(ctx context.Context, path []byte, offset, length int64, w io.Writer, began func(steward.FileEntry) error) error {
	c, done, err := f.ask(ctx, steward.FileAsk{Op: steward.FileRead, Path: path, Offset: offset, Length: length})
	if err != nil {
		return err
	}
	defer done()
	r, err := f.reply(ctx, c)
	if err != nil {
		return err
	}
	if r.Entry == nil {
		return Refused("the workspace's helper says nothing of the file")
	}
	if began != nil {
		if err := began(*r.Entry); err != nil {
			return err
		}
	}
	_, err = f.frames(ctx, c, w, length)
	return err
}

// frames passes on output until its end.
func (f *Files) frames(ctx context.Context, c *steward.Conn, w io.Writer, most int64) (r steward.FileReply, err error) {
	var buf []byte
	for n := int64(0); ; {
		k, p, err := c.ReceiveFrameIn(buf)
		if err != nil {
			return r, f.lost(ctx, err)
		}
		if cap(p) > cap(buf) {
			buf = p[:0]
		}
		switch k {
		case steward.Output:
			if n += int64(len(p)); most >= 0 && n > most {
				return r, Refused("the workspace's helper sends more than was asked")
			}
			if _, err := w.Write(p); err != nil {
				return r, err
			}
		case steward.Ended:
			if err := json.Unmarshal(p, &r); err != nil {
				return r, f.lost(ctx, err)
			}
			return r, held(&r)
		}
	}
}

// Pack passes on an archive of what is at a path; with names only of those, each
// ended by a zero byte. began is called when it comes.
func (f *Files) Pack(ctx context.Context, a steward.FileAsk, names io.Reader, w io.Writer, began func() error) (left int, err error) {
	a.Op, a.Some = steward.FilePack, names != nil
	c, done, err := f.ask(ctx, a)
	if err != nil {
		return 0, err
	}
	defer done()
	if _, err := f.reply(ctx, c); err != nil {
		return 0, err
	}
	if names != nil {
		if err := send(c, io.LimitReader(names, steward.MaxFileNames)); err != nil {
			return 0, err
		}
	}
	r, err := f.frames(ctx, c, &beginning{w: w, began: began}, -1)
	return max(0, r.Left), err
}

// beginning calls began before the first byte.
type beginning struct {
	w     io.Writer
	began func() error
}

func (b *beginning) Write(p []byte) (int, error) {
	if b.began != nil {
		if err := b.began(); err != nil {
			return 0, err
		}
		b.began = nil
	}
	return b.w.Write(p)
}

// errUnread says that what was sent could not be read where it came from.
var errUnread = errors.New("what was sent cannot be read")

func send(c *steward.Conn, r io.Reader) error {
	buf := make([]byte, 128<<10)
	for {
		n, err := r.Read(buf)
		if n > 0 {
			if err := c.SendFrame(steward.Input, buf[:n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return c.SendFrame(steward.NoMore, nil)
		}
		if err != nil {
			return errors.Join(errUnread, err)
		}
	}
}

// Send writes a file or unpacks an archive; what is not read to its end is not
// written.
func (f *Files) Send(ctx context.Context, a steward.FileAsk, content io.Reader) (steward.FileReply, error) {
	c, done, err := f.ask(ctx, a)
	if err != nil {
		return steward.FileReply{}, err
	}
	defer done()
	if r, err := f.reply(ctx, c); err != nil {
		return r, err
	}
	type answered struct {
		r   steward.FileReply
		err error
	}
	said := make(chan answered, 1)
	go func() { // it may be refused before all was sent
		r, err := f.reply(ctx, c)
		said <- answered{r, err}
		c.Stream.Close() // nobody reads what is sent still
	}()
	if err := send(c, content); errors.Is(err, errUnread) {
		return steward.FileReply{}, err
	}
	x := <-said
	return x.r, x.err
}

// Follow tells what a search finds or a watch sees, until it is over. What a search
// ended with is the last it is told.
func (f *Files) Follow(ctx context.Context, a steward.FileAsk, news func(steward.FileNews) error) error {
	c, done, err := f.ask(ctx, a)
	if err != nil {
		return err
	}
	defer done()
	if _, err := f.reply(ctx, c); err != nil {
		return err
	}
	for {
		var n steward.FileNews
		if err := c.ReceiveAtMost(&n, steward.MaxAsked); err != nil {
			return f.lost(ctx, err)
		}
		if err := held(&steward.FileReply{Problem: n.Problem, Entry: n.Entry}); err != nil {
			return err
		}
		if len(n.Path) > steward.MaxFilePath || bytes.IndexByte(n.Path, 0) >= 0 || len(n.Text) > 2*steward.MaxFilePath {
			return Refused("the workspace's helper names what is no file")
		}
		if err := news(n); err != nil || n.Over {
			return err
		}
	}
}
