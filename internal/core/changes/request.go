package changes

import (
	"regexp"
	"strconv"
	"strings"
)

// A pull request is known by the ref under which git hosts show its commits to
// everybody who may read the repository: refs/pull/N/head or refs/merge-requests/N/head.
var request = regexp.MustCompile(`^refs/(?:pull|merge-requests)/([1-9][0-9]{0,8})/head$`)

// RequestPatterns are such refs, as git takes them.
var RequestPatterns = []string{"refs/pull/*/head", "refs/merge-requests/*/head"}

// Request is the number of the pull request that a ref is of; 0 for a branch.
// Whoever may open one wrote what is in it, and that is more people than may push.
func Request(ref string) int {
	m := request.FindStringSubmatch(ref)
	if m == nil {
		return 0
	}
	n, _ := strconv.Atoi(m[1]) // it has at most nine digits
	return n
}

// LocalBranch is how a branch is called in a clone of it: a pull request's by its
// ref without what is before the folder.
func LocalBranch(ref string) string {
	if Request(ref) == 0 {
		return ref
	}
	return strings.TrimPrefix(ref, "refs/")
}

// RequestSpec is what fetches a pull request in a clone, as a branch of its remote
// (git-fetch(1)): what is of it there is so known to be elsewhere.
func RequestSpec(ref string) string {
	return "+" + ref + ":refs/remotes/origin/" + LocalBranch(ref)
}
