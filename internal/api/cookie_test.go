package api

import (
	"net/http/httptest"
	"testing"
)

// Which cookie signs a request in, and that a page of another name cannot put
// one beside it.
func TestTheSignInCookie(t *testing.T) {
	for _, c := range []struct {
		secure         bool
		cookie, signed string
	}{
		{false, "yardbench_sign_in=mine", "mine"},
		{false, "other=1; yardbench_sign_in=mine", "mine"},
		{false, "yardbench_sign_in=theirs; yardbench_sign_in=mine", ""},
		{true, "__Host-yardbench_sign_in=mine", "mine"},
		{true, "yardbench_sign_in=theirs; __Host-yardbench_sign_in=mine", "mine"},
		{true, "yardbench_sign_in=theirs", ""},
		{true, "__Host-yardbench_sign_in=theirs; __Host-yardbench_sign_in=mine", ""},
	} {
		a := &API{Config: Config{Secure: c.secure}}
		r := httptest.NewRequest("GET", "/", nil)
		r.Header.Set("Cookie", c.cookie)
		if got := a.token(r); got != c.signed {
			t.Errorf("with TLS %v, %q signs in with %q", c.secure, c.cookie, got)
		}
	}
}
