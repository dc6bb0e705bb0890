package wire

import "time"

// Cost is what was used, and what it cost.
type Cost struct {
	Currency string    `json:"currency"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	By       string    `json:"by" enum:"person,team,repository,workspace,day"`
	Rows     []CostRow `json:"rows"`
	Total    CostRow   `json:"total"`
}

// CostRow is one line of it. Money is in millionths of the currency's unit.
type CostRow struct {
	Key            string  `json:"key"`
	ActiveS        int64   `json:"active_s" doc:"Seconds that were run and worked in"`
	IdleS          int64   `json:"idle_s" doc:"Seconds that were run and not worked in"`
	PrebuildS      int64   `json:"prebuild_s"`
	StoredGiBHours float64 `json:"stored_gib_hours"`
	ActiveMicros   int64   `json:"active_micros"`
	IdleMicros     int64   `json:"idle_micros"`
	StorageMicros  int64   `json:"storage_micros"`
	PrebuildMicros int64   `json:"prebuild_micros"`
	TotalMicros    int64   `json:"total_micros"`
}
