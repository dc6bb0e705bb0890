// Package registry knows how registries of images are signed in to, by the OCI
// distribution protocol, and asks them what they let everybody read. It touches the
// network, and keeps nothing.
package registry

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/distribution/reference"
	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
)

// SignIn is what a registry is signed in to with.
type SignIn struct{ Username, Password string }

// SignIns are they by registry, as [Host] names it.
type SignIns map[string]SignIn

// Hub is the registry of images whose names name none.
const Hub = "docker.io"

// Name is an image's name with its registry, without tag and digest: what a registry
// shows or does not.
func Name(image string) string {
	named, err := reference.ParseNormalizedNamed(image)
	if err != nil {
		return ""
	}
	return named.Name()
}

// Host is the registry of an image, with its port where one is named.
func Host(image string) string {
	named, err := reference.ParseNormalizedNamed(image)
	if err != nil {
		return ""
	}
	return reference.Domain(named)
}

// At is the sign-in at a registry by its name or, of [Hub], that of the machine
// which serves it; ok is false where there is none.
func (s SignIns) At(host string) (in SignIn, ok bool) {
	if host == "registry-1.docker.io" || host == "index.docker.io" {
		host = Hub
	}
	in, ok = s[host]
	return in, ok
}

// Resolve implements [authn.Keychain].
func (s SignIns) Resolve(of authn.Resource) (authn.Authenticator, error) {
	if in, ok := s.At(of.RegistryStr()); ok {
		return &authn.Basic{Username: in.Username, Password: in.Password}, nil
	}
	return authn.Anonymous, nil
}

// Transport reaches registries. Names under localhost are this machine, whatever is
// asked for names (RFC 6761, 6.3), as they are to git.
var Transport = func() http.RoundTripper {
	t := http.DefaultTransport.(*http.Transport).Clone()
	dialer := &net.Dialer{Timeout: 10 * time.Second}
	t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		if host, port, err := net.SplitHostPort(address); err == nil && strings.HasSuffix(host, ".localhost") {
			address = net.JoinHostPort("localhost", port)
		}
		return dialer.DialContext(ctx, network, address)
	}
	return t
}()

// askTimeout bounds how long a registry is waited for.
const askTimeout = 20 * time.Second

// ErrShut tells that a registry shows an image to those alone who sign in.
var ErrShut = errors.New("its registry shows it to nobody without signing in")

// Readable asks a registry whether everybody may read an image: [ErrShut] where not.
func Readable(ctx context.Context, image string) error {
	ref, err := name.ParseReference(image)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, askTimeout)
	defer cancel()
	_, err = remote.Head(ref, remote.WithContext(ctx), remote.WithTransport(Transport))
	var told *transport.Error
	switch {
	case errors.As(err, &told) && (told.StatusCode == http.StatusUnauthorized || told.StatusCode == http.StatusForbidden || told.StatusCode == http.StatusNotFound):
		return ErrShut // some say of what they do not show that it is not there
	case err != nil:
		return fmt.Errorf("ask its registry: %w", err)
	}
	return nil
}
