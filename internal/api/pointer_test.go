package api

import "testing"

func TestPointers(t *testing.T) {
	for location, want := range map[string]string{"body.name": "/name", "body.names[12].a/b~c": "/names/12/a~1b~0c", "body": "", "query.limit": "limit", "path.workspace": "workspace", "": ""} {
		if got := pointerOf(location); got != want {
			t.Errorf("%q is %q, not %q", location, got, want)
		}
	}
}
