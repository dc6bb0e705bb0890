// Package gitssh reaches git hosts by SSH: it dials one, holds it to the keys it is
// known by, signs in with one key and runs one of git's programs there. It touches
// the network and nothing else, and keeps nothing.
package gitssh

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"yardbench/internal/reach"
)

// Bounds.
const (
	dialTimeout = 15 * time.Second
	maxLines    = 64 << 10 // of a host's keys
)

// Remote is where a repository is.
type Remote struct {
	User string
	Host string // with :PORT where it is not 22
	Path string
}

// In scp's form a colon comes before any slash (git-clone(1), GIT URLS).
var short = regexp.MustCompile(`^(?:([A-Za-z0-9._-]+)@)?([A-Za-z0-9.-]+):([^:]+)$`)

// Parse reads an address like ssh://git@host:2222/path or git@host:path; ok tells
// whether it is one.
func Parse(address string) (r Remote, ok bool) {
	if strings.HasPrefix(address, "ssh://") {
		u, err := url.Parse(address)
		if err != nil || u.Host == "" || strings.Trim(u.Path, "/") == "" || u.RawQuery != "" || u.Fragment != "" {
			return r, false
		}
		if _, secret := u.User.Password(); secret {
			return r, false
		}
		r = Remote{User: u.User.Username(), Host: u.Host, Path: u.Path}
		if strings.HasPrefix(r.Path, "/~") {
			r.Path = r.Path[1:]
		}
	} else {
		m := short.FindStringSubmatch(address)
		if m == nil || strings.Contains(address, "://") || strings.Trim(m[3], "/") == "" {
			return r, false
		}
		r = Remote{User: m[1], Host: m[2], Path: m[3]}
	}
	r.Host = Host(r.Host)
	return r, !strings.HasPrefix(r.Host, "-") && !strings.HasPrefix(r.User, "-") && !strings.HasPrefix(r.Path, "-")
}

// Host is a host as it is known: in small letters, with :PORT where it is not 22.
func Host(s string) string { return strings.ToLower(strings.TrimSuffix(s, ":22")) }

// With is what somebody signs in with.
type With struct {
	Key      string // a private key's text, as OpenSSH writes it
	HostKeys string // those that the host is known by, a line each, as in authorized_keys
}

// Unknown says that nobody said by which key a host is known.
type Unknown struct {
	Host, Key, Fingerprint string // what it shows
}

func (u Unknown) Error() string {
	return "the key of the git host " + u.Host + " is not known; it shows " + u.Fingerprint
}

// Another says that a host shows another key than it is known by.
type Another struct{ Host, Fingerprint string }

func (a Another) Error() string {
	return "the git host " + a.Host + " shows a key that it is not known by, " + a.Fingerprint + ": it was changed, or somebody stands between"
}

// Refused says that a host lets nobody in by a key, or that there is none.
type Refused struct{ Host string }

func (r Refused) Error() string { return "the git host " + r.Host + " refuses the key" }

// Away says that a host cannot be reached.
type Away struct {
	Host string
	Err  error
}

func (a Away) Error() string {
	return "the git host " + a.Host + " cannot be reached: " + a.Err.Error()
}

// Unwrap gives why.
func (a Away) Unwrap() error { return a.Err }

// Programs are git's, on the far side (git-upload-pack(1) and its like).
var Programs = []string{"git-upload-pack", "git-receive-pack", "git-upload-archive"}

var (
	userName = regexp.MustCompile(`^[A-Za-z0-9._][A-Za-z0-9._-]{0,63}$`)
	protocol = regexp.MustCompile(`^[A-Za-z0-9=:._-]{1,64}$`)
)

// Call is what is run at a host.
type Call struct {
	Program  string // one of [Programs]
	Protocol string // GIT_PROTOCOL, where the caller speaks it; "" else
	In       io.Reader
	Out, Err io.Writer
}

// Run runs one of git's programs for a repository, until it ends or the context
// does; ended is how, as a process's.
func Run(ctx context.Context, r Remote, w With, c Call) (ended int, err error) {
	if !slices.Contains(Programs, c.Program) {
		return 0, fmt.Errorf("%q is none of git's programs", c.Program)
	}
	client, err := dial(ctx, r, w)
	if err != nil {
		return 0, err
	}
	defer client.Close()
	defer context.AfterFunc(ctx, func() { client.Close() })()
	s, err := client.NewSession()
	if err != nil {
		return 0, Away{r.Host, err}
	}
	defer s.Close()
	if protocol.MatchString(c.Protocol) {
		_ = s.Setenv("GIT_PROTOCOL", c.Protocol) // a host that takes none speaks the old one
	}
	s.Stdout, s.Stderr = c.Out, c.Err
	in, err := s.StdinPipe()
	if err != nil {
		return 0, Away{r.Host, err}
	}
	// Not as s.Stdin: its end would be waited for, and whoever asks may keep it open.
	go func() {
		_, _ = io.Copy(in, c.In) // a host that takes no more has ended
		in.Close()
	}()
	err = s.Run(c.Program + " '" + strings.ReplaceAll(r.Path, "'", `'\''`) + "'")
	if exit := (*ssh.ExitError)(nil); errors.As(err, &exit) {
		return max(1, exit.ExitStatus()), nil
	}
	if err != nil {
		return 0, Away{r.Host, errors.Join(ctx.Err(), err)}
	}
	return 0, nil
}

func dial(ctx context.Context, r Remote, w With) (*ssh.Client, error) {
	if !userName.MatchString(r.User) {
		return nil, fmt.Errorf("%q is no user's name at a git host", r.User)
	}
	known, kinds, err := HostKeys(w.HostKeys)
	if err != nil {
		return nil, err
	}
	config := &ssh.ClientConfig{User: r.User, Timeout: dialTimeout, HostKeyAlgorithms: kinds,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			switch mark := ssh.FingerprintSHA256(key); {
			case len(known) == 0:
				return Unknown{r.Host, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), mark}
			case !slices.ContainsFunc(known, func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), key.Marshal()) }):
				return Another{r.Host, mark}
			}
			return nil
		}}
	if w.Key != "" {
		signer, err := ssh.ParsePrivateKey([]byte(w.Key))
		if err != nil {
			return nil, fmt.Errorf("the key cannot be read: %w", err)
		}
		config.Auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
	}
	address := r.Host
	if _, _, err := net.SplitHostPort(address); err != nil {
		address = net.JoinHostPort(address, "22")
	}
	ctx, cancel := context.WithTimeout(ctx, dialTimeout)
	defer cancel()
	conn, err := reach.Dial(ctx, "tcp", address)
	if err != nil {
		return nil, Away{r.Host, err}
	}
	// The handshake has no bound of its own.
	if err := conn.SetDeadline(time.Now().Add(dialTimeout)); err != nil {
		conn.Close()
		return nil, Away{r.Host, err}
	}
	c, channels, requests, err := ssh.NewClientConn(conn, address, config)
	if err != nil {
		conn.Close()
		var unknown Unknown
		var another Another
		switch {
		case errors.As(err, &unknown):
			return nil, unknown
		case errors.As(err, &another):
			return nil, another
		case strings.Contains(err.Error(), "unable to authenticate"): // x/crypto has no type for it
			return nil, Refused{r.Host}
		case strings.Contains(err.Error(), "no common algorithm for host key"):
			return nil, Another{r.Host, "of another kind"}
		}
		return nil, Away{r.Host, err}
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		conn.Close()
		return nil, Away{r.Host, err}
	}
	return ssh.NewClient(c, channels, requests), nil
}

// HostKeys reads the keys that a host is known by, and which algorithms it is to
// show one of them by: a host has several, and shows the kind that is asked for.
func HostKeys(lines string) (keys []ssh.PublicKey, algorithms []string, err error) {
	if len(lines) > maxLines {
		return nil, nil, errors.New("there are too many keys of a host")
	}
	for line := range strings.Lines(lines) {
		if strings.TrimSpace(line) == "" {
			continue
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			return nil, nil, fmt.Errorf("%.40q is no key of a host", line)
		}
		keys = append(keys, key)
		if key.Type() == ssh.KeyAlgoRSA { // by SHA-1 no more (RFC 8332)
			algorithms = append(algorithms, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			algorithms = append(algorithms, key.Type())
		}
	}
	return keys, algorithms, nil
}

// NewKey makes a pair (Ed25519): the private half as OpenSSH writes it, the public
// one as a line for authorized_keys.
func NewKey(comment string) (private, public string, err error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", "", err
	}
	block, err := ssh.MarshalPrivateKey(key, comment)
	if err != nil {
		return "", "", err
	}
	private = string(pem.EncodeToMemory(block))
	public, err = Public(private, comment)
	return private, public, err
}

// Public is the public half of a private key, as a line for authorized_keys. Keys
// that a passphrase guards, and kinds that OpenSSH does not take any more, are refused.
func Public(private, comment string) (string, error) {
	signer, err := ssh.ParsePrivateKey([]byte(private))
	if missing := (*ssh.PassphraseMissingError)(nil); errors.As(err, &missing) {
		return "", errors.New("the key is guarded by a passphrase, which nobody could type where it is used")
	}
	if err != nil {
		return "", errors.New("this is no private key as OpenSSH writes it")
	}
	switch kind := signer.PublicKey().Type(); kind {
	case ssh.KeyAlgoED25519, ssh.KeyAlgoRSA, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521:
	default:
		return "", fmt.Errorf("a key of the kind %s is not taken", kind)
	}
	if k, ok := signer.PublicKey().(ssh.CryptoPublicKey); ok {
		if rsa, ok := k.CryptoPublicKey().(interface{ Size() int }); ok && rsa.Size() < 256 {
			return "", errors.New("an RSA key of less than 2048 bits is not taken")
		}
	}
	return strings.TrimSpace(strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))) + " " + comment), nil
}

// Fingerprint is a public key's, as OpenSSH shows it.
func Fingerprint(public string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(public))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}
