package rules

import "testing"

// An editor's address is of a scheme of its own, with words that there are.
func TestEditors(t *testing.T) {
	for link, wrong := range map[string]bool{
		"slate://open?host={host}&port={port}&user={workspace}&folder={folder}": false,
		"slate+remote:{alias}{folder}":                                          false,
		"https://editor.skerryline.example/?to={owner}/{workspace}":             false,
		"javascript:alert({host})":                                              true,
		"JavaScript:alert(1)":                                                   true,
		"data:text/html,{host}":                                                 true,
		"{host}://x":                                                            true,
		"slate://{nobody}":                                                      true,
		"slate://a b":                                                           true,
		"slate":                                                                 true,
		"":                                                                      true,
	} {
		if why := (Editor{"Slate", link}).wrong(); (why != "") != wrong {
			t.Errorf("%q: %q", link, why)
		}
	}
	r := parsed(t, First+"\neditors:\n  Slate: 'slate://{alias}'\n  Chalk: 'chalk:{folder}'\n")
	if len(r.Editors) != 2 || r.Editors[1] != (Editor{"Chalk", "chalk:{folder}"}) {
		t.Errorf("they are %+v", r.Editors)
	}
	if r.values()["editors.Slate"] != "slate://{alias}" {
		t.Errorf("it is not among the values")
	}
}
