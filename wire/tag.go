package wire

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
)

// A Tag is the strong validator of RFC 9110, 8.8.3, without its quotation marks:
// another one as soon as what people can change of a thing is another. What the
// time brings, a cost say, is no part of it.

// tag makes one of what people can change.
func tag(of ...any) string {
	text, err := json.Marshal(of)
	if err != nil {
		panic(err) // texts, numbers and times
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// Tag is "v" and the version's number.
func (v RulesVersion) Tag() string { return fmt.Sprintf("v%d", v.Version) }

// Tag is another one where the person was changed.
func (v Person) Tag() string { return tag(v) }

// Tag is another one where the secret was set anew or given to others.
func (v Secret) Tag() string { return tag(v) }

// Tag is another one where the plan was changed; its runs are no part of it.
func (v PrebuildPlan) Tag() string {
	return tag(v.Repository, v.Branch, v.OnPush, v.Timetable, v.Keep, v.MadeBy)
}

// Tag is another one where the repository was changed.
func (v Repository) Tag() string { return tag(v) }

// Tag is another one where the webhook was changed; what it was told is no part of it.
func (v Webhook) Tag() string { return tag(v.ID, v.URL, v.Kinds, v.PausedAt) }

// Tag is another one where the workspace came to another phase, or something else
// is wanted of it.
func (v Workspace) Tag() string {
	return tag(v.ID, v.Phase, v.PhaseAt.UnixMicro(), v.Wanted, v.Rebuilding, v.Commit, v.Size)
}
