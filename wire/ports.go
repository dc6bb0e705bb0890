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
	Visitors  string `json:"visitors" enum:"owner,team,everybody" doc:"Who may visit it: its owner alone, their team too, or everybody signed in"`
	// Until is when it is its owner's alone again.
	Until   *time.Time `json:"until,omitempty"`
	Address string     `json:"address"`
}

// PortChange says who may visit a port.
type PortChange struct {
	Shared   bool   `json:"shared,omitempty" doc:"In place of visitors: everybody signed in may, or its owner alone"`
	Visitors string `json:"visitors,omitempty" enum:"owner,team,everybody"`
	Seconds  int64  `json:"seconds,omitempty" minimum:"0" maximum:"31536000" doc:"For how long others may; without it for good"`
}

// PortVisit asks for the way to a port's address.
type PortVisit struct {
	Address string `json:"address" maxLength:"4096"`
}

// PortPass leads to a port's address, once, within a minute.
type PortPass struct {
	Go string `json:"go"`
}
