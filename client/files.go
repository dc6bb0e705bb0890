package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"yardbench/wire"
)

// Paths of files are bytes, from the workspace folder or absolute. Of all that
// looks, what is asked with wake set has the workspace started where it is stopped.

// files is the address of one operation on files.
func files(ref, rest string, query url.Values, path string) string {
	if query == nil {
		query = url.Values{}
	}
	if path != "" {
		query.Set("path", path)
	}
	return workspace(ref, "/files"+rest+"?"+query.Encode())
}

func woken(wake bool) url.Values {
	if wake {
		return url.Values{"wake": {"true"}}
	}
	return url.Values{}
}

// Show tells of one file, folder or link.
func (c Files) Show(ctx context.Context, ref, path string, wake bool) (wire.File, error) {
	return call[wire.File](ctx, c.link, "GET", files(ref, "/entry", woken(wake), path), nil)
}

// List lists a folder.
func (c Files) List(ctx context.Context, ref, path string) ([]wire.File, error) {
	return all[wire.File](ctx, c.link, files(ref, "", nil, path))
}

// MakeFolder makes a folder, with those above it.
func (c Files) MakeFolder(ctx context.Context, ref, path string, wake bool) (wire.File, error) {
	return call[wire.File](ctx, c.link, "PUT", files(ref, "/folder", woken(wake), path), nil)
}

// Move gives a file or folder another path; over what is there, if over is set.
func (c Files) Move(ctx context.Context, ref, from, to string, over bool) (wire.File, error) {
	return call[wire.File](ctx, c.link, "PUT", files(ref, "/place", url.Values{"to": {to}, "over": {strconv.FormatBool(over)}}, from), nil)
}

// Remove removes a file, or a folder: with what is in it, if all is set. A tag, where
// there is one, is what the file must have.
func (c Files) Remove(ctx context.Context, ref, path string, all bool, tag string) error {
	_, err := send[nothing](ctx, c.link, "DELETE", files(ref, "/entry", url.Values{"all": {strconv.FormatBool(all)}}, path), nil, matching(tag))
	return err
}

func matching(tag string) http.Header {
	if tag == "" {
		return nil
	}
	return http.Header{"If-Match": {`"` + tag + `"`}}
}

// Read copies a file to w, from a byte on.
func (c Files) Read(ctx context.Context, ref, path string, from int64, w io.Writer) error {
	header := http.Header{}
	if from > 0 {
		header.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	return c.copy(ctx, "GET", files(ref, "/content", nil, path), nil, header, w)
}

func (c Files) copy(ctx context.Context, method, path string, body io.Reader, header http.Header, w io.Writer) error {
	res, err := c.pass(ctx, method, path, body, header)
	return drain(ctx, res, err, w)
}

// Write makes content a file, in one step. A tag is what the file there must have;
// fresh wants that there is none.
func (c Files) Write(ctx context.Context, ref, path string, content io.Reader, tag string, fresh bool) (wire.File, error) {
	header := matching(tag)
	if header == nil {
		header = http.Header{}
	}
	if fresh {
		header.Set("If-None-Match", "*")
	}
	header.Set("Content-Type", "application/octet-stream")
	var out wire.File
	return out, c.sent(ctx, files(ref, "/content", nil, path), content, header, &out)
}

func (c Files) sent(ctx context.Context, path string, content io.Reader, header http.Header, out any) error {
	res, err := c.pass(ctx, "PUT", path, content, header)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", c.address, err)
	}
	return nil
}

// Pack writes a file or folder to w as an archive, tar or zip.
func (c Files) Pack(ctx context.Context, ref, path, form string, w io.Writer) error {
	return c.copy(ctx, "GET", files(ref, "/archive", url.Values{"form": {form}}, path), nil, nil, w)
}

// PackSome writes some of the files beneath a folder to w as a tar.
func (c Files) PackSome(ctx context.Context, ref, path string, names []string, w io.Writer) error {
	var body bytes.Buffer
	for _, n := range names {
		body.WriteString(n)
		body.WriteByte(0)
	}
	return c.copy(ctx, "POST", files(ref, "/archive", nil, path), &body, http.Header{"Content-Type": {"application/octet-stream"}}, w)
}

// Unpack brings an archive, tar or zip, beneath a folder.
func (c Files) Unpack(ctx context.Context, ref, path, form string, archive io.Reader) (wire.Brought, error) {
	kind := map[string]string{"tar": "application/x-tar", "zip": "application/zip"}[form]
	var out wire.Brought
	return out, c.sent(ctx, files(ref, "/archive", nil, path), archive, http.Header{"Content-Type": {kind}}, &out)
}

// Search says what is searched for.
type Search struct {
	Name, Text             string // what the path, and what a line holds
	Expression, Exact, All bool   // Text is one; capitals count; what git passes over too
	Limit                  int    // 0: 1,000
}

// Search tells what is found beneath a folder, and whether there was more.
func (c Files) Search(ctx context.Context, ref, path string, s Search, found func(wire.Found) error) (more bool, err error) {
	q := url.Values{}
	for k, v := range map[string]string{"name": s.Name, "text": s.Text} {
		if v != "" {
			q.Set(k, v)
		}
	}
	for k, v := range map[string]bool{"expression": s.Expression, "exact": s.Exact, "all": s.All} {
		if v {
			q.Set(k, "true")
		}
	}
	if s.Limit > 0 {
		q.Set("limit", strconv.Itoa(s.Limit))
	}
	over := false
	err = told(ctx, c, files(ref, "/search", q, path), func(f wire.Found) error {
		if f.Over {
			over, more = true, f.More
			return nil
		}
		return found(f)
	})
	if err == nil && !over {
		err = io.ErrUnexpectedEOF
	}
	return more, err
}

// Watch tells what changes beneath a folder, until ctx ends or the service goes.
func (c Files) Watch(ctx context.Context, ref, path string, changed func(wire.FileChange) error) error {
	return told(ctx, c, files(ref, "/watch", nil, path), changed)
}

// told reads lines of JSON as they come.
func told[T any](ctx context.Context, c Files, path string, take func(T) error) error {
	res, err := c.pass(ctx, "GET", path, nil, nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if len(lines.Bytes()) == 0 {
			continue // the connection is alive
		}
		var v T
		if err := json.Unmarshal(lines.Bytes(), &v); err != nil {
			return fmt.Errorf("the answer of %s cannot be read: %w", c.address, err)
		}
		if err := take(v); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := lines.Err(); err != nil {
		return &Unreachable{c.address, err}
	}
	return nil
}
