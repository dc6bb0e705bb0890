package hunt

import "strings"

// fault breaks something on purpose after a commit or a call of the yard, to
// show that the hunt finds it.
type fault func(l *life, what, workspace string)

func replace(s, old, new string) string { return strings.ReplaceAll(s, old, new) }
