package api

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/steward"
	"yardbench/wire"
)

// FileIn says which file of which workspace. All of it stands in the query, so that
// names may hold any bytes.
type FileIn struct {
	Workspace
	Path string `query:"path" maxLength:"4096" doc:"From the workspace folder, or absolute; without it that folder. Bytes, percent-encoded as a query has them: a name need not be text"`
	Wake bool   `query:"wake" doc:"Have the workspace started where it is stopped, if the house rules let that be"`
}

func (f FileIn) at() service.Path { return service.Path{Ref: f.Ref, Path: f.Path, Wake: f.Wake} }

const filesPath = "/workspaces/{workspace}/files"

// Bounds of what is told as it comes.
const (
	searchTime = 2 * time.Minute
	newsPulse  = 20 * time.Second
)

// fileForms are the media types of archives.
var fileForms = map[string]string{"tar": "application/x-tar", "zip": "application/zip"}

// roomy is how large a body may be where it holds files.
func roomy(r *http.Request) int64 {
	switch under, is := strings.CutPrefix(r.URL.Path, "/api/v1/workspaces/"); {
	case !is:
	case r.Method == http.MethodPut && (strings.HasSuffix(under, "/files/content") || strings.HasSuffix(under, "/files/archive")):
		return steward.MaxFileBytes
	case r.Method == http.MethodPost && strings.HasSuffix(under, "/files/archive"):
		return steward.MaxFileNames
	}
	return maxBody
}

// fileRoutes are the files of workspaces.
func fileRoutes(a *API) {
	s := a.svc.Files
	parts(a, op("GET", filesPath, "list-files", "List a part of a folder: folders first, each by the bytes of its name", policy.UseWorkspace), []string{"kind"},
		func(ctx context.Context, who service.Actor, in *struct {
			FileIn
			Page
		}) (service.Part[wire.File], error) {
			if in.Sort != "" && in.Sort != "kind" {
				return service.Part[wire.File]{}, &wire.Problem{Type: "urn:yardbench:problem:unknown-word", Title: http.StatusText(422), Status: 422, Detail: "folders have one order: kind"}
			}
			after, err := base64.RawURLEncoding.DecodeString(in.After)
			if err != nil {
				return service.Part[wire.File]{}, &wire.Problem{Type: "urn:yardbench:problem:unknown-mark", Title: http.StatusText(422), Status: 422, Detail: "what was given to go on after is not of this list", Next: "begin anew without it"}
			}
			part, err := s.List(ctx, who, in.at(), string(after), in.Limit)
			part.Next = base64.RawURLEncoding.EncodeToString([]byte(part.Next))
			return part, err
		})
	answer(a, op("GET", filesPath+"/entry", "show-file", "Show one file, folder or link", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *FileIn) (wire.File, error) {
			return s.Show(ctx, who, in.at())
		})
	done(a, matching(op("DELETE", filesPath+"/entry", "remove-file", "Remove a file, or a folder", policy.UseWorkspace)),
		func(ctx context.Context, who service.Actor, in *struct {
			FileIn
			All bool `query:"all" doc:"Of a folder what is in it, too"`
		}) error {
			return s.Remove(ctx, who, in.at(), in.All)
		})
	answer(a, op("PUT", filesPath+"/folder", "make-folder", "Make a folder, with those above it", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *FileIn) (wire.File, error) {
			return s.Folder(ctx, who, in.at())
		})
	answer(a, op("PUT", filesPath+"/place", "move-file", "Give a file or folder another path", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			FileIn
			To   string `query:"to" maxLength:"4096" doc:"Its new path"`
			Over bool   `query:"over" doc:"In place of what is there"`
		}) (wire.File, error) {
			return s.Move(ctx, who, in.at(), in.To, in.Over)
		})
	contentRoutes(a)
	archiveRoutes(a)
	newsRoutes(a)
}

func binary(description, mediaType string) map[string]*huma.Response {
	return map[string]*huma.Response{"200": {Description: description, Content: map[string]*huma.MediaType{mediaType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
}

// held runs an answer of its own for as long as whoever asked may have it.
func (a *API) held(in FileIn, do func(ctx context.Context, who service.Actor, w http.ResponseWriter, r *http.Request) error) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(h huma.Context) {
		c := humagin.Unwrap(h)
		who := actor(h.Context())
		ctx, cancel := a.until(h.Context())
		defer cancel()
		ctx, release, err := a.svc.Leases.HoldWorkspace(ctx, who, in.Ref)
		if err != nil {
			write(c.Writer, asProblem(err))
			return
		}
		defer release()
		err = do(ctx, who, c.Writer, c.Request)
		if cause := context.Cause(ctx); err != nil && errors.Is(cause, service.ErrLeaseEnded) {
			err = &wire.Problem{Type: "urn:yardbench:problem:access-ended", Title: "Access ended", Status: http.StatusForbidden, Detail: cause.Error(), Next: "sign in again"}
		}
		switch {
		case err == nil:
		case c.Writer.Written():
			panic(http.ErrAbortHandler) // a cut answer must not look like a whole one
		default:
			write(c.Writer, asProblem(tooLarge(err)))
		}
	}}
}

// tooLarge is what is said of a body that went over its bound.
func tooLarge(err error) error {
	if most, ok := errors.AsType[*http.MaxBytesError](err); ok {
		return &wire.Problem{Type: "urn:yardbench:problem:too-large", Title: http.StatusText(http.StatusRequestEntityTooLarge), Status: http.StatusRequestEntityTooLarge, Detail: fmt.Sprintf("at most %d bytes are taken", most.Limit)}
	}
	return err
}

// attach says of an answer what it is called where it is kept. What is in a
// workspace is never shown as a page of ours.
func attach(w http.ResponseWriter, mediaType, name string) {
	h := w.Header()
	h.Set("Content-Type", mediaType)
	h.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(strings.ToValidUTF8(name, "_")))
	h.Set("No-Gzip-Compression", "1") // of the compressor in front: it has its length
}

// ranged answers a range that is not there with a problem.
type ranged struct {
	http.ResponseWriter
	none bool
}

func (w *ranged) WriteHeader(status int) {
	if w.none = status == http.StatusRequestedRangeNotSatisfiable; w.none {
		w.Header().Del("Content-Disposition")
		w.Header().Del("Content-Length")
		write(w.ResponseWriter, &wire.Problem{Type: "urn:yardbench:problem:range", Title: http.StatusText(status), Status: status, Detail: "the file has no such range; its length is in Content-Range"})
		return
	}
	w.ResponseWriter.WriteHeader(status)
}

func (w *ranged) Write(p []byte) (int, error) {
	if w.none {
		return len(p), nil
	}
	return w.ResponseWriter.Write(p)
}

func contentRoutes(a *API) {
	s := a.svc.Files
	read := op("GET", filesPath+"/content", "read-file", "Read a file, or a range of it (RFC 9110, 14)", policy.UseWorkspace)
	read.Description = "Answers with ETag, and honours Range, If-Range, If-None-Match and If-Modified-Since."
	read.Responses = binary("The file", "application/octet-stream")
	read.Responses["206"] = &huma.Response{Description: "A range of it"}
	read.Responses["304"] = &huma.Response{Description: "It is the one that was named"}
	read.Errors = append(read.Errors, http.StatusRequestedRangeNotSatisfiable)
	huma.Register(a.huma, read, func(_ context.Context, in *struct {
		FileIn
		Range string `header:"Range" doc:"Which part of it"`
	}) (*huma.StreamResponse, error) {
		return a.held(in.FileIn, func(ctx context.Context, who service.Actor, w http.ResponseWriter, r *http.Request) error {
			f, err := s.Open(ctx, who, in.at())
			if err != nil {
				return err
			}
			defer f.Close()
			attach(w, "application/octet-stream", path.Base(in.Path))
			w.Header().Set("ETag", `"`+f.State+`"`)
			http.ServeContent(&ranged{ResponseWriter: w}, r, "", f.ModifiedAt, f)
			return nil
		}), nil
	})
	put := matching(op("PUT", filesPath+"/content", "write-file", "Write a file, in one step: whoever reads it sees the one before or this", policy.UseWorkspace))
	put.Description = "At most 16 GiB. If-None-Match: * wants that there is none. A link is followed, beneath the workspace's folders."
	put.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	put.Errors = append(put.Errors, http.StatusPreconditionFailed)
	fileAnswer(a, &put, wire.File{}, "The file as it is now")
	huma.Register(a.huma, put, func(_ context.Context, in *struct {
		FileIn
		Fresh string `header:"If-None-Match" enum:"*" doc:"That there is none"`
	}) (*huma.StreamResponse, error) {
		return a.held(in.FileIn, func(ctx context.Context, who service.Actor, w http.ResponseWriter, r *http.Request) error {
			f, err := s.Write(ctx, who, in.at(), in.Fresh != "", r.Body)
			if err != nil {
				return err
			}
			w.Header().Set("ETag", `"`+f.State+`"`)
			return writeJSON(w, f)
		}), nil
	})
}

// fileAnswer describes what an operation that answers by itself answers with.
func fileAnswer(a *API, o *huma.Operation, v any, means string) {
	schema := a.schema(v)
	o.Responses = map[string]*huma.Response{"200": {Description: means, Content: map[string]*huma.MediaType{"application/json": {Schema: schema}}}}
}

func writeJSON(w http.ResponseWriter, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(body) // whoever asked may be gone
	return nil
}

func archiveRoutes(a *API) {
	s := a.svc.Files
	pack := op("GET", filesPath+"/archive", "pack-files", "Read a file or folder with all that is in it, as an archive", policy.UseWorkspace)
	pack.Responses = binary("The archive, in which all stands beneath the folder's name", fileForms["tar"])
	pack.Responses["200"].Content[fileForms["zip"]] = &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	type PackIn struct {
		FileIn
		Form string `query:"form" enum:"tar,zip" default:"tar"`
	}
	packed := func(in PackIn, names bool) *huma.StreamResponse {
		return a.held(in.FileIn, func(ctx context.Context, who service.Actor, w http.ResponseWriter, r *http.Request) error {
			var some io.Reader
			if names {
				some = r.Body
			}
			name := path.Base(in.Path)
			if name == "." || name == "/" {
				name, _, _ = strings.Cut(in.Ref, ".")
			}
			return s.Pack(ctx, who, in.at(), in.Form, some, w, func() error {
				attach(w, fileForms[in.Form], name+"."+in.Form)
				w.WriteHeader(http.StatusOK)
				return nil
			})
		})
	}
	huma.Register(a.huma, pack, func(_ context.Context, in *PackIn) (*huma.StreamResponse, error) {
		return packed(*in, false), nil
	})
	some := op("POST", filesPath+"/archive", "pack-some-files", "Read some of the files beneath a folder, as an archive", policy.UseWorkspace)
	some.Description = "The body holds their names from that folder, each ended by a zero byte, of 64 MiB at most. What is not there is left out."
	some.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	some.Responses = pack.Responses
	huma.Register(a.huma, some, func(_ context.Context, in *PackIn) (*huma.StreamResponse, error) {
		return packed(*in, true), nil
	})
	unpack := op("PUT", filesPath+"/archive", "unpack-files", "Bring an archive's content beneath a folder, over what is there", policy.UseWorkspace)
	unpack.Description = "A tar or a zip, by its media type; at most 16 GiB, packed and unpacked. Each file comes in one step; what leads out of the folder is refused, and what came before it stays."
	binarySchema := &huma.MediaType{Schema: &huma.Schema{Type: "string", Format: "binary"}}
	unpack.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{fileForms["tar"]: binarySchema, fileForms["zip"]: binarySchema}}
	unpack.Errors = append(unpack.Errors, http.StatusUnsupportedMediaType)
	fileAnswer(a, &unpack, wire.Brought{}, "What it brought")
	huma.Register(a.huma, unpack, func(_ context.Context, in *FileIn) (*huma.StreamResponse, error) {
		return a.held(*in, func(ctx context.Context, who service.Actor, w http.ResponseWriter, r *http.Request) error {
			is, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")) // none is none of them
			for form, mediaType := range fileForms {
				if is == mediaType {
					b, err := s.Unpack(ctx, who, in.at(), form, r.Body)
					if err != nil {
						return err
					}
					return writeJSON(w, b)
				}
			}
			return &wire.Problem{Type: "urn:yardbench:problem:media-type", Title: http.StatusText(http.StatusUnsupportedMediaType), Status: http.StatusUnsupportedMediaType, Detail: "an archive is of the type application/x-tar or application/zip"}
		}), nil
	})
}

// news are lines of JSON that are told as they come; an empty one shows that the
// connection is alive.
type news struct {
	mu   sync.Mutex
	w    http.ResponseWriter
	over bool // the answer has ended: nothing may be written any more
}

func (n *news) end() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.over = true
}

func (n *news) begin() {
	n.w.Header().Set("Content-Type", jsonLines)
	n.w.Header().Set("No-Gzip-Compression", "1") // each line goes at once
	n.w.WriteHeader(http.StatusOK)
}

func (n *news) line(v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return n.put(append(body, '\n'))
}

func (n *news) put(p []byte) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.over {
		return http.ErrHandlerTimeout
	}
	_, err := io.Copy(n.w, bytes.NewReader(p))
	if f, ok := n.w.(http.Flusher); ok && err == nil {
		f.Flush()
	}
	return err
}

func newsRoutes(a *API) {
	s := a.svc.Files
	lines := func(v any) map[string]*huma.Response {
		return map[string]*huma.Response{"200": {Description: "JSON Lines, each as it comes", Content: map[string]*huma.MediaType{jsonLines: {Schema: a.schema(v)}}}}
	}
	search := op("GET", filesPath+"/search", "search-files", "Search names, or lines, beneath a folder", policy.UseWorkspace)
	search.Description = "Answers a line for each as it is found, and one with over at the end. What git passes over is not searched, nor .git."
	search.Responses = lines(wire.Found{})
	huma.Register(a.huma, search, func(_ context.Context, in *struct {
		FileIn
		Name       string `query:"name" maxLength:"1000" doc:"What the path holds; with one of *?[ a pattern for the name, or for the whole path where it has a slash"`
		Text       string `query:"text" maxLength:"1000" doc:"What the line holds; without it names are searched"`
		Expression bool   `query:"expression" doc:"text is a regular expression, as RE2 has them"`
		Exact      bool   `query:"exact" doc:"Capitals count"`
		All        bool   `query:"all" doc:"What git passes over too, and .git"`
		Limit      int    `query:"limit" minimum:"1" maximum:"1000000" default:"1000" doc:"How many at most"`
	}) (*huma.StreamResponse, error) {
		return a.held(in.FileIn, func(ctx context.Context, who service.Actor, w http.ResponseWriter, _ *http.Request) error {
			ctx, cancel := context.WithTimeout(ctx, searchTime)
			defer cancel()
			out, began := &news{w: w}, false
			return s.Search(ctx, who, in.at(), service.Search{Named: in.Name, Text: in.Text, Expression: in.Expression, Exact: in.Exact, All: in.All, Limit: in.Limit}, func(f wire.Found) error {
				if !began {
					began = true
					out.begin()
				}
				return out.line(f)
			})
		}), nil
	})
	watch := op("GET", filesPath+"/watch", "watch-files", "Tell what changes beneath a folder", policy.UseWorkspace)
	watch.Description = "Answers a line for each change, gathered for a tenth of a second, until whoever asked goes; an empty line each 20 s. It does not keep a workspace from rest."
	watch.Responses = lines(wire.FileChange{})
	huma.Register(a.huma, watch, func(_ context.Context, in *FileIn) (*huma.StreamResponse, error) {
		return a.held(*in, func(ctx context.Context, who service.Actor, w http.ResponseWriter, _ *http.Request) error {
			out, began := &news{w: w}, false
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			defer out.end()
			return s.Watch(ctx, who, in.at(), func(c wire.FileChange) error {
				if !began {
					began = true
					out.begin()
					go func() {
						for pulse := time.NewTicker(newsPulse); ; {
							select {
							case <-ctx.Done():
								pulse.Stop()
								return
							case <-pulse.C:
								if out.put([]byte("\n")) != nil {
									cancel()
								}
							}
						}
					}()
				}
				return out.line(c)
			})
		}), nil
	})
}
