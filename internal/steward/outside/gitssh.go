package outside

import (
	"cmp"
	"context"
	"errors"
	"io"
	"net/http"

	"yardbench/internal/core/plain"
	"yardbench/internal/gitssh"
	"yardbench/internal/steward"
)

// maxSaid bounds what a host may say by the side, in bytes.
const maxSaid = 1 << 20

// program runs one of git's programs at a host by SSH, for a git in the workspace that
// asks for it over its way out: the service signs in, and no key comes inside. What
// goes on then are frames, as of a run.
func (w GitWay) program(rw http.ResponseWriter, r *http.Request) {
	remote := gitssh.Remote{User: r.Header.Get(steward.GitUser), Host: gitssh.Host(r.Host), Path: r.Header.Get(steward.GitPath)}
	program := r.Header.Get(steward.GitProgram)
	with, refused, may := w.Key(r.Context(), remote.Host, program == "git-receive-pack")
	hj, ok := rw.(http.Hijacker)
	if !may || !ok {
		http.Error(rw, refused, http.StatusForbidden)
		return
	}
	conn, buf, err := hj.Hijack()
	if err != nil {
		return
	}
	defer conn.Close()
	if _, err := io.WriteString(conn, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		return
	}
	c := &steward.Conn{Stream: struct {
		io.Reader
		io.WriteCloser
	}{buf, conn}}
	ctx, cancel := context.WithCancel(context.Background()) // it ends with the connection
	defer cancel()
	in, typed := io.Pipe()
	go func() {
		defer cancel()
		var room []byte
		for {
			kind, p, err := c.ReceiveFrameIn(room)
			if err != nil {
				typed.CloseWithError(io.ErrUnexpectedEOF)
				return
			}
			room = p[:cap(p)]
			switch kind {
			case steward.Input:
				if _, err := typed.Write(p); err != nil {
					return
				}
			case steward.NoMore:
				typed.Close()
			}
		}
	}()
	code, err := gitssh.Run(ctx, remote, with, gitssh.Call{Program: program, Protocol: r.Header.Get(steward.GitProtocol), In: in, Out: c.Writer(steward.Output),
		Err: &atMost{to: c.Writer(steward.Errors), left: maxSaid}})
	in.Close()
	x := steward.Exit{Code: code}
	var no gitssh.Refused
	switch {
	case errors.As(err, &no):
		x = steward.Exit{Code: 128, Problem: cmp.Or(refused, err.Error())}
	case err != nil:
		x = steward.Exit{Code: 128, Problem: plain.Line(err.Error(), maxProblem)}
	}
	_ = c.SendJSON(steward.Ended, x) // a git that went away has no reader
}

// atMost passes on so many bytes, and takes the rest.
type atMost struct {
	to   io.Writer
	left int
}

func (a *atMost) Write(p []byte) (int, error) {
	n := min(len(p), a.left)
	a.left -= n
	if _, err := a.to.Write(p[:n]); err != nil {
		return 0, err
	}
	return len(p), nil
}
