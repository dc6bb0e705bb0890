package wire

// Port is a port of a workspace.
type Port struct {
	Number    int    `json:"number"`
	Label     string `json:"label,omitempty"`
	Process   string `json:"process,omitempty"`
	Service   string `json:"service,omitempty" doc:"The service behind it, where that is not the workspace itself"`
	Declared  bool   `json:"declared" doc:"The definition forwards it"`
	Listening bool   `json:"listening"`
	Loopback  bool   `json:"loopback" doc:"It listens on loopback only, and is reached all the same"`
	Shared    bool   `json:"shared" doc:"Everybody signed in may visit it; else only its owner"`
	Address   string `json:"address"`
}

// PortChange says who may visit a port.
type PortChange struct {
	Shared bool `json:"shared"`
}

// PortVisit asks for the way to a port's address.
type PortVisit struct {
	Address string `json:"address" maxLength:"4096"`
}

// PortPass leads to a port's address, once, within a minute.
type PortPass struct {
	Go string `json:"go"`
}
