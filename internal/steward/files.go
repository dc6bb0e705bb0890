package steward

// What is asked of the errand that serves the files of a workspace. Its input and
// output carry yamux, the service being the client; each stream is one [FileAsk],
// answered by one [FileReply], and goes on as the operation says: content in frames
// (Output or Input, then Ended with a [FileReply] or NoMore), what is found and what
// changes as messages of [FileNews].

// Tree is the errand: FOLDER... serves the files beneath the folders, of which
// relative paths begin at the first.
const Tree = "tree"

// FileOp is what is asked.
type FileOp string

// The operations.
const (
	FileShow   FileOp = "show"   // one entry
	FileList   FileOp = "list"   // a part of a folder
	FileRead   FileOp = "read"   // content, from Offset, of Length bytes
	FileWrite  FileOp = "write"  // content replaces the file, in one step
	FileFolder FileOp = "folder" // makes a folder, with those above it
	FileMove   FileOp = "move"
	FileRemove FileOp = "remove"
	FilePack   FileOp = "pack"   // an archive
	FileUnpack FileOp = "unpack" // an archive's content comes beneath a folder
	FileSearch FileOp = "search" // FileNews of what is found
	FileWatch  FileOp = "watch"  // FileNews of what changes
)

// Bounds on files.
const (
	MaxFilePath  = 4096
	MaxFilePart  = 1000     // entries in one part of a list
	MaxFileBytes = 16 << 30 // of one file that is written, and of all that an archive brings
	MaxFiles     = 1000000  // that an archive brings, and that a search looks at
	MaxFileNames = 64 << 20 // bytes of the names that are packed
)

// FileAsk is one operation. Paths are bytes: names need not be text.
type FileAsk struct {
	Op   FileOp `json:"op"`
	Path []byte `json:"path,omitempty"`
	To   []byte `json:"to,omitempty"`
	// After is where the part before ended, Limit how many there may be.
	After []byte `json:"after,omitempty"`
	Limit int    `json:"limit,omitempty"`
	// Offset and Length are in bytes; a Length of -1 is all that is left.
	Offset int64 `json:"offset,omitempty"`
	Length int64 `json:"length,omitempty"`
	// Tags are those that what is there may have, New that nothing may be there.
	Tags []string `json:"tags,omitempty"`
	New  bool     `json:"new,omitempty"`
	// All removes a folder with what is in it, moves over what is there, and
	// searches in what git passes over.
	All bool `json:"all,omitempty"`
	// Form is an archive's: tar or zip. Some has only those files packed whose names,
	// each ended by a zero byte, follow as Input.
	Form string `json:"form,omitempty"`
	Some bool   `json:"some,omitempty"`
	// Named is what a path must hold, or match where it has one of *?[.
	Named string `json:"named,omitempty"`
	// Text is what a line must hold; an expression (RE2) where Expression is set.
	Text       string `json:"text,omitempty"`
	Expression bool   `json:"expression,omitempty"`
	Exact      bool   `json:"exact,omitempty"` // capitals count
}

// FileEntry is one file, folder or link.
type FileEntry struct {
	Name       []byte `json:"name"`
	Kind       string `json:"kind"` // file, folder, link or other
	Bytes      int64  `json:"bytes,omitempty"`
	ModifiedNS int64  `json:"modified_ns"`    // since 1970
	Mode       uint32 `json:"mode,omitempty"` // permission bits
	Target     []byte `json:"target,omitempty"`
	Leads      string `json:"leads,omitempty"` // of a link: file or folder; empty: nowhere, or out
	Tag        string `json:"tag,omitempty"`   // is another when the content may be
}

// FileProblem says why something was not done.
type FileProblem struct {
	Kind   string `json:"kind"`
	Detail string `json:"detail"`
}

func (p *FileProblem) Error() string { return p.Detail }

// The kinds of [FileProblem].
const (
	FileMissing = "missing" // there is none
	FileThere   = "there"   // there is one already
	FileBeyond  = "beyond"  // the path leads out of the folders
	FileChanged = "changed" // it has another tag
	FileKind    = "kind"    // it is not of the kind that this is done with
	FileDenied  = "denied"  // the workspace's user may not
	FileFull    = "full"    // there is no room left
	FileTooMuch = "too-much"
	FileInvalid = "invalid"
	FileOther   = "other"
)

// FileReply answers an operation.
type FileReply struct {
	Problem *FileProblem `json:"problem,omitempty"`
	Entry   *FileEntry   `json:"entry,omitempty"`
	Entries []FileEntry  `json:"entries,omitempty"`
	Next    []byte       `json:"next,omitempty"` // what goes on after; empty: that was all
	Files   int          `json:"files,omitempty"`
	Bytes   int64        `json:"bytes,omitempty"`
	Left    int          `json:"left,omitempty"` // entries that were left out: they are no files
}

// FileNews is what a search finds or a watch sees.
type FileNews struct {
	Path   []byte     `json:"path,omitempty"` // from the folder that was named
	Entry  *FileEntry `json:"entry,omitempty"`
	Line   int        `json:"line,omitempty"`
	Column int        `json:"column,omitempty"` // in bytes, from 1
	Length int        `json:"length,omitempty"` // in bytes
	// Text is the line, or a part of a long one, which begins with byte From of it.
	Text []byte `json:"text,omitempty"`
	From int    `json:"from,omitempty"`
	// Anew tells a watch that more changed than is told: all is looked at anew.
	Anew bool `json:"anew,omitempty"`
	// Over ends a search; More tells that there was more than was asked for.
	Over    bool         `json:"over,omitempty"`
	More    bool         `json:"more,omitempty"`
	Problem *FileProblem `json:"problem,omitempty"`
}
