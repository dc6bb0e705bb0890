package wire

import "time"

// Passkey is what one signs in to the console with in place of a password (WebAuthn).
type Passkey struct {
	ID     string     `json:"id"`
	Name   string     `json:"name" example:"my laptop"`
	MadeAt time.Time  `json:"made_at"`
	UsedAt *time.Time `json:"used_at,omitempty"`
}

// PasskeyQuestion is what a browser is asked, to make a passkey or to sign in with one.
type PasskeyQuestion struct {
	Options string `json:"options" doc:"For the browser: JSON by WebAuthn, as parseCreationOptionsFromJSON or parseRequestOptionsFromJSON takes it"`
	Kept    string `json:"kept" doc:"To be sent along with the answer, within five minutes, once"`
}

// NewPasskey is a browser's answer, with which a passkey is made.
type NewPasskey struct {
	Name     string `json:"name" minLength:"1" maxLength:"60"`
	Password string `json:"password,omitempty" maxLength:"256" doc:"One's password, where one has one: whoever finds a console open makes no passkey"`
	Kept     string `json:"kept" maxLength:"8192"`
	Answer   string `json:"answer" maxLength:"65536" doc:"The credential, as its toJSON has it"`
}

// PasskeySignIn is a browser's answer, with which somebody signs in.
type PasskeySignIn struct {
	Kept   string `json:"kept" maxLength:"8192"`
	Answer string `json:"answer" maxLength:"65536" doc:"The credential, as its toJSON has it"`
}
