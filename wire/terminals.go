package wire

import "time"

// Frame is a kind of message on a terminal's or a command's WebSocket: the first
// byte of a binary message; its content follows.
type Frame struct {
	Kind  string
	Sent  bool // to the workspace; else from it
	Means string
	Holds any // what its content is as JSON; nil where it is none
}

// Frames are all of them.
var Frames = []Frame{
	{"i", true, "input", nil},
	{"c", true, "the input ends", nil},
	{"r", true, "another size", Resize{}},
	{"a", true, "so many bytes of output were taken in, in decimal", nil},
	{"o", false, "output", nil},
	{"e", false, "standard error", nil},
	{"q", false, "where the output that follows stands: it begins elsewhere than where the one before ended", Place{}},
	{"k", false, "so many bytes of your input were taken, in all, in decimal", nil},
	{"w", false, "who is at the terminal, and whether it is recorded: when somebody comes or goes, or a recording begins or ends", Lookers{}},
	{"x", false, "how it ended; the last", Ended{}},
	{"p", false, "why it is refused, or was ended; the last", Problem{}},
}

// Resize says how large a terminal is.
type Resize struct {
	Columns int `json:"columns"`
	Rows    int `json:"rows"`
}

// Ended is how a command or a shell ended.
type Ended struct {
	Code    int    `json:"code" doc:"Its exit code; 128 and the signal's number where a signal ended it"`
	Problem string `json:"problem,omitempty" doc:"Why it could not be run"`
}

// Place says where the output of a terminal that follows stands.
type Place struct {
	Life  string `json:"life" doc:"Tells the terminal from others of its label, before and after it"`
	At    int64  `json:"at" doc:"In bytes from its first"`
	Taken int64  `json:"taken" doc:"So many bytes of the typist's input were taken"`
}

// Run starts a command or a terminal in a workspace. It is the first message,
// as text, on the WebSocket; after it [Frames] go both ways.
type Run struct {
	Argv     []string          `json:"argv,omitempty" doc:"The command; without one a terminal is opened, or joined"`
	Terminal string            `json:"terminal,omitempty" doc:"The terminal's label; default main. Of a command without one: a label of its own, used once, to come back to it"`
	Columns  int               `json:"columns,omitempty"`
	Rows     int               `json:"rows,omitempty"`
	TTY      bool              `json:"tty,omitempty" doc:"With a command: it is run in a terminal of its own, which lives on when the connection is lost; its label is the terminal's"`
	Env      map[string]string `json:"env,omitempty" doc:"Variables beside those of the workspace; at most 64"`
	Folder   string            `json:"folder,omitempty" doc:"Where it is run: a path, from the workspace folder; default: that itself"`
	Wake     bool              `json:"wake,omitempty" doc:"Have it started where it is stopped, if the house rules let that be; how it stands is told each second as a frame of kind e"`
	Reason   string            `json:"reason,omitempty" maxLength:"300" doc:"Why an operator enters somebody else's workspace, where the house rules let them; its owner reads it. Nothing of the owner's is given to what is opened"`
	// Acknowledges tells that whoever asks says what they have taken in: a frame
	// of kind a with the number of bytes of output in decimal. Beyond half a
	// megabyte that nobody has taken in, the output waits.
	Acknowledges bool `json:"acknowledges,omitempty"`
	// Typist, Life and From are for coming back to a terminal after a connection broke, or
	// to a command without one: that goes on for 90 seconds then, where it has a typist
	// and a label, and ends with its connection where it has not.
	Typist string `json:"typist,omitempty" maxLength:"64" doc:"A random name of your own for as long as you look: frames of kind q and k tell then where output stands, and how much of your input was taken"`
	Life   string `json:"life,omitempty" maxLength:"64" doc:"The terminal's, as q told: one that has ended is not opened anew"`
	From   int64  `json:"from,omitempty" minimum:"0" doc:"The place from which its output is wanted; what is kept of it, 8 MiB, begins later where more was printed"`
}

// Looker is somebody who is at a terminal.
type Looker struct {
	Person string    `json:"person"`
	Writes bool      `json:"writes" doc:"They may type"`
	Since  time.Time `json:"since"`
}

// Lookers are those who are at a terminal.
type Lookers struct {
	Lookers  []Looker `json:"lookers"`
	Recorded bool     `json:"recorded" doc:"What the terminal prints is recorded"`
}

// Terminal is one that is open in a workspace.
type Terminal struct {
	Label   string    `json:"label"`
	Program string    `json:"program,omitempty" example:"vi" doc:"What runs in it in front"`
	Since   time.Time `json:"since"`
	Lookers []Looker  `json:"lookers" doc:"Who is at it now"`
	// Recorded tells that what it prints is recorded.
	Recorded bool `json:"recorded"`
}

// AllowLook lets somebody look at a terminal.
type AllowLook struct {
	Writes  bool  `json:"writes,omitempty" doc:"They may type, too: they act as its owner then"`
	Seconds int64 `json:"seconds,omitempty" minimum:"0" maximum:"86400" doc:"For how long; without it an hour"`
}

// Look is somebody's leave to look at a terminal of somebody else's.
type Look struct {
	Workspace string    `json:"workspace"`
	Owner     string    `json:"owner"`
	Terminal  string    `json:"terminal"`
	Person    string    `json:"person"`
	Writes    bool      `json:"writes"`
	Until     time.Time `json:"until"`
}

// FirstLine is what each new terminal of a workspace runs first.
type FirstLine struct {
	Line string `json:"line" example:". .venv/bin/activate" doc:"One line for the shell; empty is none"`
}

// NewFirstLine says what each new terminal of a workspace runs first.
type NewFirstLine struct {
	Line string `json:"line" maxLength:"1000" example:". .venv/bin/activate" doc:"One line for the shell; empty is none"`
}
