package changes

import "testing"

func TestRequest(t *testing.T) {
	for ref, want := range map[string]int{
		"refs/pull/12/head": 12, "refs/merge-requests/7/head": 7, "refs/pull/999999999/head": 999999999,
		"refs/pull/0/head": 0, "refs/pull/012/head": 0, "refs/pull/1234567890/head": 0, "refs/pull/12/merge": 0, "refs/pull/12/head/x": 0, "pull/12/head": 0,
		"refs/heads/pull/12/head": 0, "refs/pull/12/head\n": 0, "refs/pull/-1/head": 0, "main": 0, "": 0,
	} {
		if n := Request(ref); n != want {
			t.Errorf("%q is of the pull request %d, not %d", ref, n, want)
		}
	}
	if b, s := LocalBranch("refs/pull/12/head"), RequestSpec("refs/pull/12/head"); b != "pull/12/head" || s != "+refs/pull/12/head:refs/remotes/origin/pull/12/head" {
		t.Errorf("in a clone it is %s, fetched by %s", b, s)
	}
	if b := LocalBranch("refs/x"); b != "refs/x" {
		t.Errorf("a branch is called %s", b)
	}
}
