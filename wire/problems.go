package wire

import (
	"fmt"
	"net/http"
	"strings"
)

// ProblemPrefix is what the type of every problem begins with; behind it stands
// its kind.
const ProblemPrefix = "urn:yardbench:problem:"

// ProblemKind is a kind of problem: part of the contract, as a status is.
type ProblemKind struct {
	Kind   string
	Status int
	Means  string
}

// ProblemKinds are all of them, by status. A kind is never given another meaning.
var ProblemKinds = []ProblemKind{
	{"sign-in", http.StatusUnauthorized, "nobody is signed in with what was sent, or name and password do not go together"},
	{"provider", http.StatusUnauthorized, "the identity provider does not let them in, or is not to be believed"},
	{"provider-away", http.StatusServiceUnavailable, "the identity provider does not answer as one"},
	{"pass", http.StatusUnauthorized, "the way to a port was used, has expired, or is for another address"},
	{"push-mark", http.StatusUnauthorized, "the news of a push is not signed by its repository's git host, or is too old"},
	{"forbidden", http.StatusForbidden, "the role of whoever asks does not allow it"},
	{"sign-in-again", http.StatusForbidden, "whoever asks has to sign in again before: they did so too long ago"},
	{"scope", http.StatusForbidden, "the token does not reach it: its scopes, or its repositories"},
	{"cross-origin", http.StatusForbidden, "a page of another site asked for a change"},
	{"access-ended", http.StatusForbidden, "what the connection stood on has ended: a sign-in, a right, the workspace"},
	{"not-found", http.StatusNotFound, "there is no such thing, or none that whoever asks may see"},
	{"bad-request", http.StatusBadRequest, "it is no request that can be read"},
	{"no-such-method", http.StatusMethodNotAllowed, "the thing is there, and this cannot be done with it"},
	{"not-acceptable", http.StatusNotAcceptable, "it is not answered in the form that is asked for"},
	{"slow-request", http.StatusRequestTimeout, "the request did not come to its end in time"},
	{"not-now", http.StatusConflict, "it is not possible in the phase that the workspace, or the run, is in"},
	{"no-files", http.StatusConflict, "nothing of it is left that could be given to anybody"},
	{"far-reaching", http.StatusConflict, "it reaches a large part of the fleet, and has to be said to be meant"},
	{"service-ends", http.StatusServiceUnavailable, "the service ends while a command runs that nobody can come back to, and that ends with its connection"},
	{"renewed", http.StatusConflict, "the sign-in has another value by now than the one that was come by"},
	{"name-taken", http.StatusConflict, "there is one of that name"},
	{"no-change", http.StatusConflict, "it would change nothing"},
	{"secret-missing", http.StatusConflict, "the definition requires a secret that nobody gives"},
	{"over-limit", http.StatusConflict, "it would go over a limit of the house rules"},
	{"house-rules", http.StatusConflict, "the house rules do not allow it"},
	{"link-over", http.StatusConflict, "the launch link is paused, has ended, or was used by as many as may"},
	{"too-many", http.StatusConflict, "there are as many as there may be"},
	{"team-in-rules", http.StatusConflict, "the house rules say something of the team"},
	{"team-in-use", http.StatusConflict, "the team has people, or something, still"},
	{"unpushed-work", http.StatusConflict, "work that exists nowhere else would be lost"},
	{"work-unknown", http.StatusConflict, "whether work would be lost cannot be told"},
	{"has-workspaces", http.StatusConflict, "there are still workspaces of theirs, or of it"},
	{"account-open", http.StatusConflict, "the account is open, and must be closed before"},
	{"no-program", http.StatusConflict, "the account is a person's: only they make their tokens"},
	{"own-account", http.StatusConflict, "nobody takes their own role or account away"},
	{"definition-refused", http.StatusConflict, "a definition that is to be compared is refused"},
	{"repository-credential", http.StatusConflict, "the repository has no credential of its own that opens it"},
	{"taken-on", http.StatusConflict, "the container is a workspace already"},
	{"read-only", http.StatusConflict, "the container is read-only: no steward can be put into it"},
	{"not-here", http.StatusConflict, "this yard cannot do it"},
	{"yard-refuses", http.StatusConflict, "the yard refuses it"},
	{"other-kind", http.StatusConflict, "what is there is a folder where a file is meant, or a file where a folder is, or holds something"},
	{"git-refuses", http.StatusConflict, "git, a hook or the git host refuses it; output has their words"},
	{"user-may-not", http.StatusConflict, "the workspace's user has no right to the file"},
	{"answer-lost", http.StatusConflict, "it was done when it was asked before with this key, and the answer is not known any more"},
	{"changed", http.StatusPreconditionFailed, "the thing is another than If-Match says; now is how it stands"},
	{"too-large", http.StatusRequestEntityTooLarge, "the request is larger than is taken"},
	{"media-type", http.StatusUnsupportedMediaType, "the request is in no form that is read"},
	{"range", http.StatusRequestedRangeNotSatisfiable, "the file has no such range"},
	{"invalid", http.StatusUnprocessableEntity, "what was asked makes no sense as it stands; errors say which parts"},
	{"unknown-word", http.StatusUnprocessableEntity, "a parameter, an order or a state that there is not"},
	{"unknown-mark", http.StatusUnprocessableEntity, "what was given as after is not of this list, or not of this order"},
	{"unfit-key", http.StatusUnprocessableEntity, "the Idempotency-Key is none"},
	{"key-of-another", http.StatusUnprocessableEntity, "the Idempotency-Key was sent before, with something else"},
	{"unfit-match", http.StatusUnprocessableEntity, "If-Match holds what is no strong tag"},
	{"definition", http.StatusUnprocessableEntity, "an environment definition is wrong; errors say where"},
	{"rules", http.StatusUnprocessableEntity, "house rules are wrong; errors say where"},
	{"password", http.StatusUnprocessableEntity, "the old password is another"},
	{"credential", http.StatusUnprocessableEntity, "the credential does not open what it is given for"},
	{"beyond", http.StatusUnprocessableEntity, "the path, or a link on its way, leads out of the workspace's folders"},
	{"upgrade-wanted", http.StatusUpgradeRequired, "it is asked over WebSocket"},
	{"match-wanted", http.StatusPreconditionRequired, "it is not said from which state the change was made"},
	{"too-fast", http.StatusTooManyRequests, "one person asks too much at once, or changes too much in an hour"},
	{"too-many-attempts", http.StatusTooManyRequests, "too many sign-ins have failed"},
	{"broken", http.StatusInternalServerError, "the service could not do it; its own log says why"},
	{"git-host-away", http.StatusServiceUnavailable, "a git host does not answer"},
	{"no-passkeys", http.StatusConflict, "browsers have no passkeys at the console's address"},
	{"passkey", http.StatusUnprocessableEntity, "a browser's answer is not to be believed"},
	{"git-host", http.StatusUnprocessableEntity, "a git host has not let this service in"},
	{"not-connected", http.StatusConflict, "one is not connected with the git host"},
	{"yard-away", http.StatusServiceUnavailable, "the yard does not answer"},
	{"program-ended", http.StatusBadGateway, "a program in the workspace that was spoken with has ended, or says what nobody understands"},
	{"steward-away", http.StatusServiceUnavailable, "the workspace's steward does not answer"},
	{"busy", http.StatusServiceUnavailable, "more waits to be written than is taken"},
	{"under-way", http.StatusServiceUnavailable, "what was asked with this key is still being done"},
	{"workspace-full", http.StatusInsufficientStorage, "the workspace has no room left for the file"},
	{"paused", http.StatusServiceUnavailable, "an announcement of the house pauses it"},
	{"disk-nearly-full", http.StatusInsufficientStorage, "the service has too little room to begin anything large"},
	{"disk-full", http.StatusInsufficientStorage, "the service has no room to write"},
}

// kindOf is the kind that a bare status stands for.
var kindOf = map[int]string{
	http.StatusBadRequest: "bad-request", http.StatusUnauthorized: "sign-in", http.StatusForbidden: "forbidden", http.StatusNotFound: "not-found", http.StatusMethodNotAllowed: "no-such-method",
	http.StatusNotAcceptable: "not-acceptable", http.StatusRequestTimeout: "slow-request", http.StatusRequestEntityTooLarge: "too-large", http.StatusUnsupportedMediaType: "media-type",
	http.StatusUnprocessableEntity: "invalid", http.StatusUpgradeRequired: "upgrade-wanted", http.StatusServiceUnavailable: "busy",
}

// ProblemOfStatus is the type of a problem of which only its status is known.
func ProblemOfStatus(status int) string {
	if k := kindOf[status]; k != "" {
		return ProblemPrefix + k
	}
	return ProblemPrefix + "broken"
}

// ProblemDocument is the table of the kinds as Markdown.
func ProblemDocument() string {
	var b strings.Builder
	b.WriteString("# Problems\n\nEvery refusal of the HTTP door is a problem by [RFC 9457](https://www.rfc-editor.org/rfc/rfc9457), of the media type `application/problem+json`: `type` is `" + ProblemPrefix + "KIND`, `title` and `status` go with the kind, `detail` names what happened, `next` says what to do about it, `errors` which parts of the request are meant; with 412, `now` is how the thing stands. With 429 and 503, `Retry-After` says after how many seconds to ask again. Programs tell problems apart by their kind; texts are for people, and change.\n\nThis page is printed by `make generate`.\n\n| kind | status | when |\n|---|---|---|\n")
	for _, k := range ProblemKinds {
		fmt.Fprintf(&b, "| `%s` | %d | %s |\n", k.Kind, k.Status, k.Means)
	}
	return b.String()
}
