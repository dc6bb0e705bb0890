package password

import (
	"errors"
	"strings"
)

// ErrWeak says that a password is among the first that somebody would try.
var ErrWeak = errors.New("this password is among the first that somebody would try: take several words, or have one made up for you")

// common are the words that passwords are most often made of, alone or with
// digits and marks around them.
var common = map[string]bool{"password": true, "passwort": true, "passord": true, "qwerty": true, "qwertz": true, "azerty": true, "letmein": true, "welcome": true, "willkommen": true, "velkommen": true,
	"iloveyou": true, "admin": true, "administrator": true, "root": true, "secret": true, "changeme": true, "default": true, "login": true, "master": true, "monkey": true, "dragon": true, "sunshine": true,
	"princess": true, "football": true, "baseball": true, "superman": true, "batman": true, "trustno": true, "abc": true, "abcd": true, "abcdef": true, "asdf": true, "asdfgh": true, "asdfghjk": true, "zxcvbn": true,
	"qwertyuiop": true, "test": true, "testing": true, "guest": true, "user": true, "summer": true, "winter": true, "spring": true, "autumn": true, "hello": true, "computer": true, "internet": true, "yardbench": true, "workspace": true}

// rows are what fingers run along.
var rows = []string{"0123456789012345678901234567890", "qwertyuiopasdfghjklzxcvbnm", "qwertzuiopasdfghjklyxcvbnm", "abcdefghijklmnopqrstuvwxyz"}

// Weak tells whether a password can be guessed without knowing more than its
// owner's names: few letters over and over, a row of the keyboard, a common word
// with digits about it, or their own name. It gives ErrWeak.
func Weak(password string, names ...string) error {
	p := strings.ToLower(password)
	seen := map[rune]bool{}
	for _, r := range p {
		seen[r] = true
	}
	if len(seen) < 5 {
		return ErrWeak
	}
	for _, row := range rows {
		if strings.Contains(row, p) || strings.Contains(reversed(row), p) {
			return ErrWeak
		}
	}
	word := strings.Trim(p, "0123456789!?.,-_*#+$%& ")
	if word == "" && len(p) < 12 || common[word] || common[strings.NewReplacer("0", "o", "1", "i", "3", "e", "4", "a", "5", "s", "@", "a", "$", "s").Replace(word)] {
		return ErrWeak
	}
	rest := p
	for _, n := range names {
		if n = strings.ToLower(n); len(n) >= 3 {
			rest = strings.ReplaceAll(rest, n, "")
		}
	}
	if rest != p && len(rest) < 6 {
		return ErrWeak
	}
	return nil
}

func reversed(s string) string {
	b := []byte(s)
	for i, j := 0, len(b)-1; i < j; i, j = i+1, j-1 {
		b[i], b[j] = b[j], b[i]
	}
	return string(b)
}
