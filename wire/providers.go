package wire

import "time"

// SignInDoors is how people sign in here.
type SignInDoors struct {
	Passwords bool           `json:"passwords" doc:"The house has accounts of its own; without them operators alone come by password"`
	Passkeys  bool           `json:"passkeys" doc:"Browsers can have passkeys for this address"`
	Providers []SignInByDoor `json:"providers" doc:"Identity providers, by name"`
}

// SignInByDoor is an identity provider as whoever wants to sign in sees it.
type SignInByDoor struct {
	Name  string `json:"name" example:"skerry-id"`
	Title string `json:"title" example:"Skerry Line"`
	Begin string `json:"begin" example:"/api/v1/sign-in/skerry-id/begin" doc:"Where a browser goes to sign in by it; with ?to=/PATH of the console it comes back there"`
}

// Provider is an identity provider by which people sign in (OpenID Connect).
type Provider struct {
	Name        string    `json:"name" example:"skerry-id"`
	Title       string    `json:"title" example:"Skerry Line" doc:"What the page to sign in says"`
	Issuer      string    `json:"issuer" example:"https://id.skerryline.example"`
	Client      string    `json:"client" example:"yard-bench" doc:"What it knows this service by"`
	GroupsClaim string    `json:"groups_claim,omitempty" example:"groups" doc:"The claim that has people's groups; the house rules say what those come to"`
	Scopes      []string  `json:"scopes,omitempty" doc:"Asked for beside openid, profile and email"`
	Callback    string    `json:"callback" example:"https://bench.skerryline.example/api/v1/sign-in/skerry-id/return" doc:"Where it sends people back to: it must know this address"`
	SignedOut   string    `json:"signed_out" example:"https://bench.skerryline.example/api/v1/sign-in/skerry-id/signed-out" doc:"Where it tells of sign-outs (back-channel logout)"`
	AfterOver   string    `json:"after_over" example:"https://bench.skerryline.example/" doc:"Where it sends people who signed out there"`
	Rules       bool      `json:"rules" doc:"The house rules say who comes in by it; without that nobody does"`
	CreatedAt   time.Time `json:"created_at"`
}

// PutProvider adds an identity provider, or writes one anew.
type PutProvider struct {
	Title       string   `json:"title,omitempty" maxLength:"60" doc:"Default: its name"`
	Issuer      string   `json:"issuer" maxLength:"400" example:"https://id.skerryline.example"`
	Client      string   `json:"client" maxLength:"200" example:"yard-bench"`
	Secret      string   `json:"secret,omitempty" maxLength:"1000" doc:"Of the client; without one the old one stays"`
	GroupsClaim *string  `json:"groups_claim,omitempty" maxLength:"100" doc:"Default: groups; empty for none"`
	Scopes      []string `json:"scopes,omitempty" maxItems:"20" doc:"Asked for beside openid, profile and email"`
}
