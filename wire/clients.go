package wire

// OAuthClient is what the command line calls itself; it has no secret.
const OAuthClient = "yardbench"

// OAuthToken is what the token endpoint answers (RFC 6749, section 5).
type OAuthToken struct {
	AccessToken string `json:"access_token,omitempty" doc:"For the Authorization header, as a bearer token"`
	TokenType   string `json:"token_type,omitempty" enum:"Bearer"`
	ExpiresIn   int64  `json:"expires_in,omitempty" doc:"Seconds"`
	Error       string `json:"error,omitempty" example:"authorization_pending" doc:"Why there is no token, in the words of RFC 6749 and RFC 8628"`
	Description string `json:"error_description,omitempty"`
}

// DeviceAuthorization is how somebody lets a program sign in that has no browser
// (RFC 8628, section 3.2).
type DeviceAuthorization struct {
	Error           string `json:"error,omitempty" example:"invalid_client" doc:"Why it may not wait, in the words of RFC 6749; the others are empty then"`
	DeviceCode      string `json:"device_code" doc:"What the program asks for the token with"`
	UserCode        string `json:"user_code" example:"TKLM-VRQB" doc:"What somebody types in the console"`
	VerificationURI string `json:"verification_uri" example:"https://bench.skerryline.example/device"`
	Complete        string `json:"verification_uri_complete" doc:"The same with the code"`
	ExpiresIn       int64  `json:"expires_in" doc:"Seconds"`
	Interval        int64  `json:"interval" doc:"Seconds between two questions, at least"`
}

// DeviceRequest is a program that asks to be let in as somebody.
type DeviceRequest struct {
	Code   string `json:"code" example:"TKLM-VRQB"`
	Client string `json:"client" doc:"What the program calls itself"`
	Place  string `json:"place" example:"192.0.2.17" doc:"The address that it asks from"`
	Here   bool   `json:"here" doc:"You ask from the same address"`
}

// DeviceAnswer lets the program in as whoever answers, or not.
type DeviceAnswer struct {
	Allow bool `json:"allow"`
}

// NewCode lets the command line in that waits on this machine (RFC 8252).
type NewCode struct {
	Challenge string `json:"code_challenge" minLength:"43" maxLength:"43" doc:"Of its verifier, by S256 (RFC 7636)"`
	Redirect  string `json:"redirect_uri" maxLength:"100" example:"http://127.0.0.1:43117/" doc:"Where it waits: on the loopback of this machine"`
	State     string `json:"state" maxLength:"400"`
}

// MadeCode is where the browser goes to tell it.
type MadeCode struct {
	Location string `json:"location" example:"http://127.0.0.1:43117/?code=…&state=…"`
}
