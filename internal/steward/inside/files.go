package inside

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/hashicorp/yamux"

	"yardbench/internal/steward"
	"yardbench/internal/steward/tree"
)

// Tree serves the files beneath some folders over its standard input and output;
// see [steward.Tree].
func Tree(folders []string) int {
	t, err := tree.Open(folders...)
	if err != nil {
		fmt.Fprintln(os.Stderr, "files:", err)
		return 1
	}
	defer t.Close()
	session, err := yamux.Server(stdio{}, steward.Errands())
	if err != nil {
		return 1
	}
	defer session.Close()
	ServeTree(t, session)
	return 0
}

// maxAsks bounds what is done at once.
const maxAsks = 64

// ServeTree answers what is asked over a session until that ends.
func ServeTree(t *tree.Tree, session *yamux.Session) {
	free := make(chan struct{}, maxAsks)
	for {
		stream, err := session.AcceptStream()
		if err != nil {
			return
		}
		free <- struct{}{} // whoever asks waits
		go func() {
			defer func() { stream.Close(); <-free }()
			c := &steward.Conn{Stream: stream}
			var ask steward.FileAsk
			if c.ReceiveAtMost(&ask, steward.MaxAsked) == nil {
				serveFile(t, c, ask)
			}
		}()
	}
}

// refusal is the problem that an error is.
func refusal(err error) *steward.FileProblem {
	var p *steward.FileProblem
	switch {
	case err == nil:
		return nil
	case errors.As(err, &p):
		return p
	}
	return &steward.FileProblem{Kind: steward.FileOther, Detail: err.Error()}
}

// serveFile does one operation. What cannot be sent has nobody who waits for it.
func serveFile(t *tree.Tree, c *steward.Conn, a steward.FileAsk) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	p, if_ := string(a.Path), tree.Condition{Tags: a.Tags, New: a.New}
	var r steward.FileReply
	entry := func(e steward.FileEntry, err error) error { r.Entry = &e; return err }
	var err error
	switch a.Op {
	case steward.FileShow:
		err = entry(t.Show(p))
	case steward.FileList:
		var next string
		r.Entries, next, err = t.List(p, string(a.After), a.Limit)
		r.Next = []byte(next)
	case steward.FileFolder:
		err = entry(t.Folder(p))
	case steward.FileMove:
		err = entry(t.Move(p, string(a.To), a.All))
	case steward.FileRemove:
		err = t.Remove(p, a.All, if_)
	case steward.FileRead:
		sendFile(t, c, a)
		return
	case steward.FilePack:
		if c.Send(r) != nil {
			return
		}
		var only [][]byte
		if a.Some {
			all, err := io.ReadAll(io.LimitReader(&input{c: c}, steward.MaxFileNames))
			if err != nil {
				return
			}
			only = bytes.Split(bytes.TrimSuffix(all, []byte{0}), []byte{0})
		}
		r.Left, err = t.Pack(ctx, p, a.Form, only, c.Writer(steward.Output))
		r.Problem = refusal(err)
		_ = c.SendJSON(steward.Ended, r)
		return
	case steward.FileWrite, steward.FileUnpack:
		if c.Send(r) != nil {
			return
		}
		in := &input{c: c}
		if a.Op == steward.FileWrite {
			err = entry(t.Write(ctx, p, in, if_))
		} else {
			var b tree.Brought
			b, err = t.Unpack(ctx, p, a.Form, in)
			r.Files, r.Bytes, r.Left = b.Files, b.Bytes, b.Left
		}
		if err == nil {
			_, err = io.Copy(io.Discard, in) // an archive may be followed by what fills a block
		}
	case steward.FileSearch, steward.FileWatch:
		if c.Send(r) != nil {
			return
		}
		go func() { // whoever asked says no more: what comes is their end
			_, _ = io.Copy(io.Discard, c.Stream)
			cancel()
		}()
		tellNews(ctx, t, c, a)
		return
	default:
		err = &steward.FileProblem{Kind: steward.FileInvalid, Detail: "nothing of that name is done with files"}
	}
	if r.Problem = refusal(err); err != nil {
		r.Entry, r.Entries = nil, nil
	}
	_ = c.Send(r)
}

func sendFile(t *tree.Tree, c *steward.Conn, a steward.FileAsk) {
	f, e, err := t.Read(string(a.Path))
	if err == nil {
		defer f.Close()
		if a.Offset > 0 {
			_, err = f.Seek(a.Offset, io.SeekStart)
		}
	}
	if err != nil {
		_ = c.Send(steward.FileReply{Problem: refusal(err)})
		return
	}
	if c.Send(steward.FileReply{Entry: &e}) != nil {
		return
	}
	n := a.Length
	if n < 0 {
		n = max(0, e.Bytes-a.Offset)
	}
	_, err = io.CopyBuffer(onlyWriter{c.Writer(steward.Output)}, io.LimitReader(f, n), make([]byte, 128<<10))
	_ = c.SendJSON(steward.Ended, steward.FileReply{Problem: refusal(err)})
}

type onlyWriter struct{ io.Writer }

func tellNews(ctx context.Context, t *tree.Tree, c *steward.Conn, a steward.FileAsk) {
	if a.Op == steward.FileWatch {
		err := t.Watch(ctx, string(a.Path), func(paths []string) error {
			if paths == nil {
				return c.Send(steward.FileNews{Anew: true})
			}
			for _, p := range paths {
				if err := c.Send(steward.FileNews{Path: []byte(p)}); err != nil {
					return err
				}
			}
			return nil
		})
		_ = c.Send(steward.FileNews{Over: true, Problem: refusal(err)})
		return
	}
	q := tree.Query{Path: string(a.Path), Named: a.Named, Text: a.Text, Expression: a.Expression, Exact: a.Exact, All: a.All, Limit: a.Limit}
	more, err := t.Search(ctx, q, func(n steward.FileNews) error { return c.Send(n) })
	_ = c.Send(steward.FileNews{Over: true, More: more, Problem: refusal(err)})
}

// input reads what comes in frames, until there is no more.
type input struct {
	c    *steward.Conn
	buf  []byte
	left []byte
	over bool
}

func (i *input) Read(p []byte) (int, error) {
	for len(i.left) == 0 {
		if i.over {
			return 0, io.EOF
		}
		kind, q, err := i.c.ReceiveFrameIn(i.buf)
		if err != nil {
			return 0, io.ErrUnexpectedEOF // whoever sent it is gone: it is not whole
		}
		if cap(q) > cap(i.buf) {
			i.buf = q[:0]
		}
		i.left, i.over = q, kind == steward.NoMore
	}
	n := copy(p, i.left)
	i.left = i.left[n:]
	return n, nil
}
