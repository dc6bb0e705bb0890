package wire

import "time"

// Container is one in the yard that others started and nobody has taken on.
type Container struct {
	ID          string    `json:"id"`
	Name        string    `json:"name" example:"quay-clock"`
	Image       string    `json:"image"`
	StartedAt   time.Time `json:"started_at"`
	CoresMilli  int64     `json:"cores_milli" doc:"Its own bound; 0 is none"`
	MemoryBytes int64     `json:"memory_bytes" doc:"Its own bound; 0 is none"`
	Size        string    `json:"size,omitempty" doc:"The smallest size of the house rules that its own bounds fit in"`
}

// Adopt asks for a container to be taken on as somebody's workspace.
type Adopt struct {
	Owner      string `json:"owner" maxLength:"64" example:"ingrid" doc:"Whose workspace it becomes"`
	Repository string `json:"repository" maxLength:"64" example:"tide-board" doc:"What it is counted under"`
	Name       string `json:"name,omitempty" maxLength:"40" doc:"Default: the container's"`
	Size       string `json:"size,omitempty" maxLength:"20" doc:"What it counts for; default: the smallest that its own bounds fit in"`
	User       string `json:"user,omitempty" maxLength:"64" doc:"Who the terminals are; default: the container's own user"`
	Folder     string `json:"folder,omitempty" maxLength:"512" doc:"Where they begin; default: the container's own folder"`
}
