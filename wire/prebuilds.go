package wire

import "time"

// PrebuildPlan says that images of a branch are prepared ahead.
type PrebuildPlan struct {
	Repository string        `json:"repository"`
	Branch     string        `json:"branch"`
	OnPush     bool          `json:"on_push"`
	Timetable  string        `json:"timetable,omitempty"`
	Keep       int           `json:"keep"`
	MadeBy     string        `json:"made_by"`
	NextAt     *time.Time    `json:"next_at,omitempty" doc:"When it is due by its timetable"`
	Runs       []PrebuildRun `json:"runs" doc:"The newest, at most 20"`
	UsualMS    int64         `json:"usual_ms,omitempty" doc:"How long a launch from a prepared image of the repository usually takes; not there while none was"`
	ScratchMS  int64         `json:"scratch_ms,omitempty" doc:"How long one from scratch usually takes; not there while none was"`
}

// PutPlan makes or changes the plan of a branch.
type PutPlan struct {
	Branch    string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch"`
	OnPush    bool   `json:"on_push,omitempty"`
	Timetable string `json:"timetable,omitempty" maxLength:"100" doc:"Minute, hour, day of the month, month, day of the week, in the house's time zone" example:"30 5 * * 1-5"`
	Keep      int    `json:"keep,omitempty" minimum:"0" maximum:"20" doc:"How many good prepared images are kept; default 2"`
}

// Branch names a branch.
type Branch struct {
	Branch string `json:"branch,omitempty" maxLength:"256" doc:"Default: the repository's default branch"`
}

// PrebuildRun is one making of a prepared image.
type PrebuildRun struct {
	ID        string     `json:"id"`
	Number    int        `json:"number"`
	Reason    string     `json:"reason"`
	Commit    string     `json:"commit"`
	Outcome   string     `json:"outcome,omitempty" enum:"done,failed" doc:"Not there while it is under way"`
	Cause     string     `json:"cause,omitempty"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	Serves    bool       `json:"serves" doc:"Its image is kept, and may serve a launch"`
}

// Push is the news of a push, from a git host. See docs/pushes.md for how it
// is signed.
type Push struct {
	Repository string `json:"repository" maxLength:"2048" doc:"The address it is registered under"`
	Branch     string `json:"branch" maxLength:"256"`
	Commit     string `json:"commit" maxLength:"64"`
}

// Pushed tells what came of the news of a push.
type Pushed struct {
	Runs int `json:"runs" doc:"How many plans it set going"`
}

// PushKey is what a git host signs with. It is shown this once.
type PushKey struct {
	Repository string `json:"repository"`
	Key        string `json:"key"`
}
