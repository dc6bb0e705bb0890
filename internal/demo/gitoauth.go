package demo

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// The client that the git host knows the service by.
const (
	GitClient       = "yard-bench"
	GitClientSecret = "sea-mark"
)

// lender is the git host's authorization server: people let a program in as them, by
// their browser or by a code; what it lends ends, and is made fresh once.
type lender struct {
	file  string        // where what was lent is kept
	lives time.Duration // of what is lent

	mu      sync.Mutex
	Lent    map[string]loan // by access token
	Refresh map[string]loan
	codes   map[string]granted // of browsers
	devices map[string]*device
}

type loan struct {
	Person string
	Until  time.Time
}

type granted struct {
	person, challenge, back string
	until                   time.Time
}

type device struct {
	code, person string
	refused      bool
	until        time.Time
}

func newLender(dir string, lives time.Duration) *lender {
	l := &lender{file: filepath.Join(dir, "lent.json"), lives: lives, Lent: map[string]loan{}, Refresh: map[string]loan{}, codes: map[string]granted{}, devices: map[string]*device{}}
	if text, err := os.ReadFile(l.file); err == nil {
		_ = json.Unmarshal(text, l) // else nobody is connected any more
	}
	return l
}

// who is whose a token is; "" is nobody's.
func (l *lender) who(token string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if t, ok := l.Lent[token]; ok && time.Now().Before(t.Until) {
		return t.Person
	}
	return ""
}

// forget ends what was lent somebody. The lender is locked.
func (l *lender) forget(person string) {
	for _, all := range []map[string]loan{l.Lent, l.Refresh} {
		maps.DeleteFunc(all, func(_ string, t loan) bool { return t.Person == person })
	}
}

func (l *lender) keep() error {
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return errors.Join(os.WriteFile(l.file+".new", text, 0o600), os.Rename(l.file+".new", l.file))
}

var consent = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Skerry Line git</title>
<style>body{font:16px system-ui;max-width:24rem;margin:4rem auto;color:#26384a}label{display:block;margin:.6rem 0}input{width:100%;padding:.4rem;box-sizing:border-box}button{padding:.5rem 1rem;margin:.6rem .4rem 0 0}</style>
<h1>Skerry Line git</h1><p>Yard Bench asks to read and push repositories as you.</p>{{if .Wrong}}<p role="alert">{{.Wrong}}</p>{{end}}
<form method="post">{{range $k, $v := .Kept}}<input type="hidden" name="{{$k}}" value="{{$v}}">{{end}}
{{if .Device}}<label>Code <input name="user_code" value="{{.Code}}" autocomplete="off"></label>{{end}}
<label>Name <input name="name" autocomplete="username"></label><label>Password <input name="password" type="password" autocomplete="current-password"></label>
<button name="answer" value="yes">Let it in</button><button name="answer" value="no">Do not</button></form></html>`))

func show(w http.ResponseWriter, of any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = consent.Execute(w, of) // a browser that went away reads nothing
}

// signsIn tells whether a form signs one of Skerry Line's people in.
func signsIn(r *http.Request) (string, bool) {
	name := r.PostFormValue("name")
	known := slices.ContainsFunc(People, func(p Person) bool { return p.Name == name })
	return name, known && subtle.ConstantTimeCompare([]byte(r.PostFormValue("password")), []byte(Password)) == 1
}

func (l *lender) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	switch r.URL.Path {
	case "/oauth/authorize":
		l.authorize(w, r)
	case "/oauth/device-page":
		l.devicePage(w, r)
	case "/oauth/device", "/oauth/token", "/oauth/revoke":
		id, secret, ok := r.BasicAuth()
		if !ok {
			id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
		}
		if r.Method != http.MethodPost || id != GitClient || r.URL.Path != "/oauth/device" && subtle.ConstantTimeCompare([]byte(secret), []byte(GitClientSecret)) != 1 {
			says(w, http.StatusUnauthorized, map[string]any{"error": "invalid_client"})
			return
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		map[string]func(http.ResponseWriter, *http.Request){"/oauth/device": l.device, "/oauth/token": l.token, "/oauth/revoke": l.revoke}[r.URL.Path](w, r)
	default:
		http.NotFound(w, r)
	}
}

func says(w http.ResponseWriter, status int, v map[string]any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // as above
}

func (l *lender) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != GitClient || !strings.HasSuffix(back.Path, "/api/v1/git-hosts/return") || q.Get("code_challenge_method") != "S256" {
		http.Error(w, "this program is not known here", http.StatusBadRequest)
		return
	}
	if r.Method != http.MethodPost {
		show(w, map[string]any{})
		return
	}
	answer := url.Values{"state": {q.Get("state")}}
	if name, ok := signsIn(r); r.PostFormValue("answer") != "yes" {
		answer.Set("error", "access_denied")
	} else if !ok {
		show(w, map[string]any{"Wrong": "Nobody is let in by that."})
		return
	} else {
		code := unknown()
		l.mu.Lock()
		l.codes[code] = granted{name, q.Get("code_challenge"), q.Get("redirect_uri"), time.Now().Add(time.Minute)}
		l.mu.Unlock()
		answer.Set("code", code)
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func (l *lender) devicePage(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPost {
		show(w, map[string]any{"Device": true, "Code": r.URL.Query().Get("user_code")})
		return
	}
	name, ok := signsIn(r)
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, d := range l.devices {
		if ok && d.code == strings.ToUpper(strings.TrimSpace(r.PostFormValue("user_code"))) && time.Now().Before(d.until) {
			d.person, d.refused = name, r.PostFormValue("answer") != "yes"
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte("<!doctype html><title>Skerry Line git</title><p>Thank you. You can close this page.</p>")) // as above
			return
		}
	}
	show(w, map[string]any{"Device": true, "Wrong": "Nobody is let in by that."})
}

func (l *lender) device(w http.ResponseWriter, r *http.Request) {
	d := &device{code: strings.ToUpper(unknown()[:8]), until: time.Now().Add(5 * time.Minute)}
	key := unknown()
	l.devices[key] = d
	says(w, http.StatusOK, map[string]any{"device_code": key, "user_code": d.code, "verification_uri": "http://" + r.Host + "/oauth/device-page", "expires_in": 300, "interval": 1})
}

func (l *lender) token(w http.ResponseWriter, r *http.Request) {
	no := func(why string) { says(w, http.StatusBadRequest, map[string]any{"error": why}) }
	person := ""
	switch r.PostFormValue("grant_type") {
	case "authorization_code":
		c, ok := l.codes[r.PostFormValue("code")]
		delete(l.codes, r.PostFormValue("code"))
		sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
		if !ok || time.Now().After(c.until) || c.back != r.PostFormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge {
			no("invalid_grant")
			return
		}
		person = c.person
	case "urn:ietf:params:oauth:grant-type:device_code":
		switch d := l.devices[r.PostFormValue("device_code")]; {
		case d == nil || time.Now().After(d.until):
			no("expired_token")
			return
		case d.refused:
			no("access_denied")
			return
		case d.person == "":
			no("authorization_pending")
			return
		default:
			delete(l.devices, r.PostFormValue("device_code"))
			person = d.person
		}
	case "refresh_token":
		old := r.PostFormValue("refresh_token")
		t, ok := l.Refresh[old]
		delete(l.Refresh, old) // it counts once
		if !ok {
			no("invalid_grant")
			return
		}
		person = t.Person
	default:
		no("unsupported_grant_type")
		return
	}
	if r.PostFormValue("grant_type") != "refresh_token" { // who lets a program in again has let it in once
		l.forget(person)
	}
	access, refresh := unknown(), unknown()
	l.Lent[access], l.Refresh[refresh] = loan{person, time.Now().Add(l.lives)}, loan{Person: person}
	if err := l.keep(); err != nil {
		says(w, http.StatusInternalServerError, map[string]any{"error": "server_error"})
		return
	}
	says(w, http.StatusOK, map[string]any{"access_token": access, "refresh_token": refresh, "token_type": "bearer", "expires_in": int(l.lives / time.Second)})
}

func (l *lender) revoke(w http.ResponseWriter, r *http.Request) {
	token := r.PostFormValue("token")
	delete(l.Lent, token)
	delete(l.Refresh, token)
	if err := l.keep(); err != nil {
		says(w, http.StatusInternalServerError, map[string]any{"error": "server_error"})
		return
	}
	w.WriteHeader(http.StatusOK)
}
