package wire

import "time"

// NewWebhook asks for an address to be told of journal entries.
type NewWebhook struct {
	URL   string   `json:"url" maxLength:"2048" example:"https://hooks.skerryline.example/yard"`
	Kinds []string `json:"kinds,omitempty" maxItems:"50" example:"[\"workspace.phase\"]" doc:"What the kinds of entries begin with; all when empty"`
}

// WebhookChange changes what is there.
type WebhookChange struct {
	URL    *string   `json:"url,omitempty" maxLength:"2048"`
	Kinds  *[]string `json:"kinds,omitempty" maxItems:"50" doc:"All when empty"`
	Paused *bool     `json:"paused,omitempty" doc:"Nothing is sent while it is; what comes meanwhile is sent after it"`
}

// Replay asks for entries to be told again.
type Replay struct {
	From int64 `json:"from" minimum:"1" doc:"The first entry to be told, whether it was told before or not; all after it follow in their order"`
}

// WebhookKey is what deliveries are marked with, shown this once.
type WebhookKey struct {
	Webhook string `json:"webhook" doc:"Its id"`
	Key     string `json:"key"`
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
	PausedAt     *time.Time `json:"paused_at,omitempty" doc:"Nothing is sent since then"`
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
