package wire

import "time"

// Health says whether the service is well.
type Health struct {
	Simulated bool      `json:"simulated,omitempty" doc:"The yard is simulated: nothing really runs in it"`
	Status    string    `json:"status" enum:"ok,warned,troubled" doc:"troubled where something that people ask for is refused or waits; warned where something is wrong that they do not feel yet"`
	Version   string    `json:"version" doc:"Of the service: what it was built from" example:"a1b2c3d4e5"`
	At        time.Time `json:"at" doc:"The service's own time"`
	// Troubles are what keeps it from being well, the gravest first.
	Troubles []Trouble `json:"troubles,omitempty"`
	// Announcement is what the house tells everybody.
	Announcement *Announcement `json:"announcement,omitempty"`
}

// Announcement is what the house tells everybody who comes to its door, signed in or not.
type Announcement struct {
	Text   string     `json:"text" example:"The yard is moved on Saturday: push what matters."`
	Pauses string     `json:"pauses,omitempty" enum:"launches,starts,changes" doc:"What is not begun meanwhile, but by operators: launches and prebuilds; with starts, starts and rebuilds too; with changes nothing is changed at all, and what runs is worked in"`
	Until  *time.Time `json:"until,omitempty" doc:"When it ends by itself"`
}

// Opening is something that an installation leaves open.
type Opening struct {
	Area   string  `json:"area" enum:"way in,people,house rules,git,yard,records"`
	Kind   string  `json:"kind" doc:"The same for the same thing" example:"images-from-anywhere"`
	What   string  `json:"what"`
	Close  string  `json:"close" doc:"How it is closed"`
	Action *Action `json:"action,omitempty" doc:"What closes it, where one operation does"`
}

// Troubles are the kinds of [Trouble].
var Troubles = []string{"yard away", "disk full", "disk nearly full", "keys gone", "certificate ends", "trail behind", "clock back", "stewards away", "disk filling", "yard filling", "webhooks failing", "prebuilds fail"}

// Trouble keeps the service from being well.
type Trouble struct {
	Kind  string    `json:"kind" enum:"yard away,disk full,disk nearly full,keys gone,certificate ends,trail behind,clock back,stewards away,disk filling,yard filling,webhooks failing,prebuilds fail"`
	Text  string    `json:"text" doc:"What is wrong, what that means, and what helps"`
	Since time.Time `json:"since"`
	Grave bool      `json:"grave" doc:"People feel it: something that they ask for is refused, or waits"`
}
