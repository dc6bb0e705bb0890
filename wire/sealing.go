package wire

import "time"

// SealingKey is one that everything secret in the records is sealed with, or was.
type SealingKey struct {
	ID        string     `json:"id"`
	Current   bool       `json:"current" doc:"What is sealed from now on is sealed by it"`
	MadeAt    *time.Time `json:"made_at,omitempty" doc:"Left out for the first"`
	RetiresAt *time.Time `json:"retires_at,omitempty" doc:"It is forgotten then, if nothing needs it"`
	Seals     int        `json:"seals,omitempty" doc:"So many values could not be sealed anew and need it"`
}

// NewSealingKey asks for another.
type NewSealingKey struct {
	AtOnce bool `json:"at_once,omitempty" doc:"Older ones are retired as soon as all is sealed anew; who looks at a port then signs in there again"`
}
