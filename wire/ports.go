package wire

import "time"

// Port is a port of a workspace.
type Port struct {
	Number    int    `json:"number"`
	Label     string `json:"label,omitempty"`
	Process   string `json:"process,omitempty"`
	Service   string `json:"service,omitempty" doc:"The service behind it, where that is not the workspace itself"`
	Declared  bool   `json:"declared" doc:"The definition forwards it"`
	Listening bool   `json:"listening"`
	Loopback  bool   `json:"loopback" doc:"It listens on loopback only, and is reached all the same"`
	Shared    bool   `json:"shared" doc:"Others than its owner may visit it"`
	Visitors  string `json:"visitors" enum:"owner,team,everybody,public" doc:"Who may visit it: its owner alone, their team too, everybody signed in, or, for a time, anybody at all"`
	// Until is when it is its owner's alone again.
	Until   *time.Time `json:"until,omitempty"`
	Address string     `json:"address"`
}

// PortChange says who may visit a port.
type PortChange struct {
	Shared   bool   `json:"shared,omitempty" doc:"In place of visitors: everybody signed in may, or its owner alone"`
	Visitors string `json:"visitors,omitempty" enum:"owner,team,everybody,public" doc:"Public is where the house rules allow it"`
	Seconds  int64  `json:"seconds,omitempty" minimum:"0" maximum:"31536000" doc:"For how long others may; without it for good, or, where it is public, as long as the house rules allow"`
}

// PortVisit asks for the way to a port's address.
type PortVisit struct {
	Address string `json:"address" maxLength:"4096"`
	Framed  bool   `json:"framed,omitempty" doc:"For a frame within a page of the console, and nowhere else"`
}

// PortPass leads to a port's address, once, within a minute.
type PortPass struct {
	Go string `json:"go"`
}

// LookLink lets whoever holds it visit one port for a time, signed in or not.
type LookLink struct {
	ID         string     `json:"id"`
	Workspace  string     `json:"workspace"`
	Owner      string     `json:"owner"`
	Port       int        `json:"port"`
	Wakes      bool       `json:"wakes" doc:"A visit by it starts the workspace where that is stopped, and keeps it from rest"`
	Visits     int        `json:"visits" doc:"How often it was opened"`
	VisitsMost int        `json:"visits_most,omitempty" doc:"How often it may be"`
	VisitedAt  *time.Time `json:"visited_at,omitempty" doc:"When it was opened last"`
	MadeAt     time.Time  `json:"made_at"`
	Until      time.Time  `json:"until"`
}

// NewLookLink asks for one.
type NewLookLink struct {
	Port       int   `json:"port" minimum:"1" maximum:"65535"`
	Seconds    int64 `json:"seconds,omitempty" minimum:"60" maximum:"31536000" doc:"How long it lasts; a day without it, or as long as the house rules allow"`
	VisitsMost int   `json:"visits_most,omitempty" minimum:"0" maximum:"100000" doc:"How often it may be opened"`
	Wakes      bool  `json:"wakes,omitempty" doc:"Whether a visit by it starts the workspace and keeps it from rest"`
}

// MadeLookLink is one that was made; its address is shown this once.
type MadeLookLink struct {
	LookLink
	Address string `json:"address"`
}
