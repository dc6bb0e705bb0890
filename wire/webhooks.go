package wire

import "time"

// NewWebhook asks for an address to be told of journal entries.
type NewWebhook struct {
	URL   string   `json:"url" maxLength:"2048" example:"https://hooks.skerryline.example/yard"`
	Kinds []string `json:"kinds,omitempty" maxItems:"50" example:"[\"workspace.phase\"]" doc:"What the kinds of entries begin with; all when empty"`
}

// Webhook is an address that is told.
type Webhook struct {
	ID           string     `json:"id"`
	URL          string     `json:"url"`
	Kinds        []string   `json:"kinds"`
	MadeBy       string     `json:"made_by"`
	CreatedAt    time.Time  `json:"created_at"`
	Cursor       int64      `json:"cursor" doc:"The newest entry that was delivered or passed over"`
	FailingSince *time.Time `json:"failing_since,omitempty"`
	Problem      string     `json:"problem,omitempty"`
}

// MadeWebhook is a webhook with its key, which is shown this once.
type MadeWebhook struct {
	Webhook
	Key string `json:"key" doc:"What deliveries are marked with"`
}

// Delivery is one attempt to tell a webhook.
type Delivery struct {
	Entry   int64     `json:"entry" doc:"The journal entry; 0 is a test"`
	Attempt int       `json:"attempt"`
	At      time.Time `json:"at"`
	TookMS  int64     `json:"took_ms"`
	Status  int       `json:"status" doc:"Of the answer; 0 where there was none"`
	Problem string    `json:"problem,omitempty"`
}
