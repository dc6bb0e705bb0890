package rules

import (
	"encoding/base64"
	"maps"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Git is what holds for git hosts.
type Git struct {
	// HostKeys are the keys that a host which is reached by SSH is known by, lines
	// as in authorized_keys, by the host's name, with :PORT where it is not 22.
	HostKeys map[string][]string
}

var gitHost = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,252}(:[0-9]{1,5})?$`)

func (g *Git) read(d *doc, n *yaml.Node) {
	d.mapping(n, "git", fields{"host_keys": may(func(n *yaml.Node) {
		g.HostKeys = map[string][]string{}
		for _, p := range d.pairs(n, "git.host_keys") {
			host := strings.TrimSuffix(strings.ToLower(p.key.Value), ":22")
			if !gitHost.MatchString(host) {
				d.say(p.key, "write a host's name, with :PORT where it is not 22", "%q is no host", p.key.Value)
				continue
			}
			g.HostKeys[host] = d.list(p.value, func(s string) string {
				if !publicKey(s) {
					return "is no key as a host shows it, like ssh-ed25519 AAAA…"
				}
				return ""
			})
		}
	})})
}

// publicKey tells whether a line has the form of a public key (RFC 4253, 6.6): its
// kind, and the same kind within what follows.
func publicKey(line string) bool {
	f := strings.Fields(line)
	if len(f) < 2 || !slices.Contains([]string{"ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521"}, f[0]) {
		return false
	}
	blob, err := base64.StdEncoding.DecodeString(f[1])
	return err == nil && len(blob) > 4+len(f[0]) && string(blob[:4]) == "\x00\x00\x00"+string(rune(len(f[0]))) && string(blob[4:4+len(f[0])]) == f[0]
}

func (g Git) values(v map[string]string) {
	for _, host := range slices.Sorted(maps.Keys(g.HostKeys)) {
		v["git.host_keys."+host] = strings.Join(g.HostKeys[host], ", ")
	}
}
