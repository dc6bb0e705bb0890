package wire

import "time"

// SSHDoor is where the door of SSH is, and by which key it is known.
type SSHDoor struct {
	Address     string `json:"address,omitempty" example:"bench.skerryline.example:7022" doc:"Host and port; without it the door is reached over the HTTP door alone"`
	HostKey     string `json:"host_key" doc:"Its public key, as a line of known_hosts has it without the name"`
	Fingerprint string `json:"fingerprint" doc:"Of that key, as ssh shows it"`
	// Editors are those that the house rules name.
	Editors []SSHEditor `json:"editors"`
}

// SSHKey is a public key that lets its owner in.
type SSHKey struct {
	ID          string     `json:"id"`
	Comment     string     `json:"comment,omitempty"`
	Fingerprint string     `json:"fingerprint" example:"SHA256:yJ3Ng1tXmEAwGG/mVSdFsXyE6zeWqO7xBdMmYyB2KxY"`
	AddedAt     time.Time  `json:"added_at"`
	ExpiresAt   time.Time  `json:"expires_at"`
	LastUsedAt  *time.Time `json:"last_used_at,omitempty"`
}

// NewSSHKey adds a key.
type NewSSHKey struct {
	Key     string `json:"key" minLength:"1" maxLength:"16384" doc:"The public key, as the file that ends in .pub has it"`
	Comment string `json:"comment,omitempty" maxLength:"60" doc:"In place of the key's own"`
	Days    int    `json:"days,omitempty" minimum:"0" maximum:"3660" doc:"How long it lets in; default 365"`
}

// NewSSHCertificate asks for a certificate.
type NewSSHCertificate struct {
	Key string `json:"key" minLength:"1" maxLength:"16384" doc:"The public key that is to be signed"`
}

// SSHCertificate lets its holder in for a short time.
type SSHCertificate struct {
	Certificate string    `json:"certificate" doc:"As the file has it that ends in -cert.pub"`
	ExpiresAt   time.Time `json:"expires_at"`
}

// SSHEditor is an editor of people's own machines.
type SSHEditor struct {
	Name string `json:"name" example:"Slate"`
	Link string `json:"link" example:"slate://open?host={host}&port={port}&user={workspace}&folder={folder}" doc:"The address that opens it on a workspace; the words in braces (alias, folder, host, owner, port, workspace) stand for the workspace's, percent-encoded"`
}
