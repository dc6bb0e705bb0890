package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/wire"
)

// What is written into ssh's configuration stands between its marks, first, and
// leaves all else as it was, however often it is written.
func TestSSHBlock(t *testing.T) {
	const begin, end = "# begin x", "# end x"
	for _, c := range []struct{ what, text, block, want string }{
		{"a new file", "", "Host a\n", "# begin x\nHost a\nMatch all\n# end x\n"},
		{"before what there is", "Host mine\n  User me\n", "Host a\n", "# begin x\nHost a\nMatch all\n# end x\nHost mine\n  User me\n"},
		{"in place of the old", "One\n# begin x\nold\n# end x\nTwo\n", "new\n", "One\n# begin x\nnew\nMatch all\n# end x\nTwo\n"},
		{"taken out", "One\n# begin x\nold\n# end x\nTwo\n", "", "One\nTwo\n"},
		{"taken out where it is not", "One\n", "", "One\n"},
		{"of another service", "# begin y\nold\n# end y\n", "new\n", "# begin x\nnew\nMatch all\n# end x\n# begin y\nold\n# end y\n"},
		{"with an end that is gone", "# begin x\nold\n", "new\n", "# begin x\nnew\nMatch all\n# end x\n# begin x\nold\n"},
	} {
		if got := withBlock(c.text, begin, end, c.block); got != c.want {
			t.Errorf("%s: %q", c.what, got)
		}
		if twice := withBlock(withBlock(c.text, begin, end, c.block), begin, end, c.block); c.what != "with an end that is gone" && twice != c.want {
			t.Errorf("%s, twice: %q", c.what, twice)
		}
	}
	a, _, _ := quiet(t)
	file := filepath.Join(t.TempDir(), "deep", "config")
	s := sshCommands{a}
	id, err := s.identity()
	if err != nil {
		t.Fatal(err)
	}
	block, err := s.block(id, []wire.WorkspaceRow{{Name: "quay"}}, "bench.example", "7022", false)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := s.putBlock(file, id.alias, block); err != nil {
			t.Fatal(err)
		}
	}
	text, _ := os.ReadFile(file)
	if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 || strings.Count(string(text), "Host quay.bench\n") != 1 || !strings.Contains(string(text), "Port 7022") {
		t.Errorf("%v, %v:\n%s", st, err, text)
	}
	if over, err := s.block(id, []wire.WorkspaceRow{{Name: "quay"}}, "", "", true); err != nil || strings.Contains(over, "quay") || !strings.Contains(over, "ssh way") || !strings.Contains(over, "%n") {
		t.Errorf("over HTTP it is\n%s%v", over, err)
	}
	// One pair of keys is kept, readable by its owner alone.
	first, err := id.pair()
	again, err2 := id.pair()
	if err != nil || err2 != nil || first != again || !strings.HasPrefix(first, "ssh-ed25519 ") {
		t.Errorf("%q, then %q, %v, %v", first, again, err, err2)
	}
	if st, err := os.Stat(id.key); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("it is kept as %v, %v", st, err)
	}
}
