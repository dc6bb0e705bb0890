package wire

import "time"

// Health says whether the service is well.
type Health struct {
	Simulated bool   `json:"simulated,omitempty" doc:"The yard is simulated: nothing really runs in it"`
	Status    string `json:"status" enum:"ok,troubled"`
	// Troubles are what keeps it from being well.
	Troubles []Trouble `json:"troubles,omitempty"`
}

// Trouble keeps the service from being well.
type Trouble struct {
	Kind  string    `json:"kind" enum:"yard away,disk full"`
	Text  string    `json:"text"`
	Since time.Time `json:"since"`
}
