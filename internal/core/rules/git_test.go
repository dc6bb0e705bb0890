package rules

import (
	"slices"
	"testing"
)

// Git hosts are known by keys that have the form of one.
func TestGitHostKeys(t *testing.T) {
	const key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMDxq5B5vJ4yQfW1xYb5oZ0sGgQq6mE8u2xJm0hP3c5T"
	r, findings := Parse([]byte(First + "git:\n  host_keys:\n    \"Git.example:22\": [\"" + key + "\"]\n    \"git.example:2222\": [\"" + key + " a comment\", \"" + key + "\"]\n"))
	if len(findings) > 0 {
		t.Fatal(findings)
	}
	if !slices.Equal(r.Git.HostKeys["git.example"], []string{key}) || len(r.Git.HostKeys["git.example:2222"]) != 2 {
		t.Errorf("they are %v", r.Git.HostKeys)
	}
	if first, _ := Parse([]byte(First)); len(Diff(first, r)) != 2 {
		t.Errorf("the differences are %v", Diff(first, r))
	}
	for _, bad := range []string{"git: {host_keys: {git.example: " + key + "}}", "git: {host_keys: {git.example: [ssh-ed25519]}}", "git: {host_keys: {git.example: [ssh-ed25519 AAAA]}}",
		"git: {host_keys: {git.example: [ssh-rsa AAAAC3NzaC1lZDI1NTE5AAAAIMDxq5B5vJ4yQfW1xYb5oZ0sGgQq6mE8u2xJm0hP3c5T]}}", "git: {host_keys: {'a b': [\"" + key + "\"]}}", "git: {keys: {}}", "git: x"} {
		if _, findings := Parse([]byte(First + bad + "\n")); len(findings) == 0 {
			t.Errorf("%s is taken", bad)
		}
	}
}
