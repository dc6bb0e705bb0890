package wire

import "time"

// File is a file, a folder or a link in a workspace. Names are bytes: where one is
// no text, Name shows it as far as it is, and Raw has it.
type File struct {
	Name       string    `json:"name"`
	Raw        []byte    `json:"raw,omitempty" doc:"The name's bytes, in base64, where they are no text (UTF-8)"`
	Kind       string    `json:"kind" enum:"file,folder,link,other"`
	Bytes      int64     `json:"bytes"`
	ModifiedAt time.Time `json:"modified_at"`
	Mode       string    `json:"mode" example:"0644" doc:"Its permissions, in octal"`
	Target     string    `json:"target,omitempty" doc:"What a link holds"`
	Leads      string    `json:"leads,omitempty" enum:"file,folder" doc:"What a link leads to; without it nowhere, or out of the workspace's folders"`
	State      string    `json:"tag,omitempty" doc:"Another one where the content may be another: what ETag holds"`
}

// Tag is another one where the file's content may be another.
func (f File) Tag() string { return f.State }

// Brought is what an archive brought.
type Brought struct {
	Files int   `json:"files" doc:"Files, folders and links"`
	Bytes int64 `json:"bytes"`
	Left  int   `json:"left_out" doc:"What an archive can hold and a workspace does not take: devices, pipes"`
}

// Found is what a search found: a file, or a line of one. The last has over.
type Found struct {
	Path   string `json:"path,omitempty" doc:"From the folder that was searched"`
	Raw    []byte `json:"raw,omitempty" doc:"The path's bytes, in base64, where they are no text (UTF-8)"`
	File   *File  `json:"file,omitempty" doc:"Where names were searched"`
	Line   int    `json:"line,omitempty" doc:"From 1"`
	Column int    `json:"column,omitempty" doc:"In bytes, from 1"`
	Length int    `json:"length,omitempty" doc:"In bytes"`
	Text   string `json:"text,omitempty" doc:"The line; of a long one a part"`
	From   int    `json:"from,omitempty" doc:"The byte of the line, from 1, with which text begins"`
	Over   bool   `json:"over,omitempty"`
	More   bool   `json:"more,omitempty" doc:"There was more than was asked for"`
}

// FileChange is something that came, went or became another. Without a path all is
// to be looked at anew: so it is at the beginning, and where much changed at once.
type FileChange struct {
	Path string `json:"path,omitempty" doc:"From the folder that is watched"`
	Raw  []byte `json:"raw,omitempty" doc:"The path's bytes, in base64, where they are no text (UTF-8)"`
	Anew bool   `json:"anew,omitempty"`
}
