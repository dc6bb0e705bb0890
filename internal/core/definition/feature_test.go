package definition

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"yardbench/internal/bound"
	"yardbench/internal/core/rules"
)

// yardOfFeatures gives each feature's manifest by its reference.
func yardOfFeatures(manifests map[string]string) func(string) (FeatureContent, error) {
	return func(ref string) (FeatureContent, error) {
		m, ok := manifests[ref]
		if !ok {
			return FeatureContent{}, errors.New("there is none")
		}
		return FeatureContent{Manifest: []byte(m), Digest: "sha256:" + ref}, nil
	}
}

// The order in which features are put on (the specification's "Feature
// installation order").
func TestFeatureOrder(t *testing.T) {
	f := func(id, more string) string { return `{"id": "` + id + `", "version": "1.0.0"` + more + `}` }
	for _, c := range []struct{ what, features, more, want string }{
		{"by name", `{"r.example/f/b:1": {}, "r.example/f/a:1": {}}`, "", "a b"},
		{"what is needed first, also where nobody asked for it", `{"r.example/f/needs-z:1": {}}`, "", "z needs-z"},
		{"what comes after, only where it is asked for", `{"r.example/f/after-c:1": {}, "r.example/f/c:1": {}}`, "", "c after-c"},
		{"what comes after something that is not there", `{"r.example/f/after-c:1": {}}`, "", "after-c"},
		{"the order that is asked for", `{"r.example/f/a:1": {}, "r.example/f/b:1": {}, "r.example/f/c:1": {}}`, `, "overrideFeatureInstallOrder": ["r.example/f/c", "r.example/f/b"]`, "c b a"},
		{"needs before the order that is asked for", `{"r.example/f/needs-z:1": {}, "r.example/f/a:1": {}}`, `, "overrideFeatureInstallOrder": ["r.example/f/needs-z"]`, "a z needs-z"},
		{"one feature twice, with other options", `{"r.example/f/a:1": {}, "r.example/f/needs-a2:1": {}}`, "", "a a needs-a2"},
		{"by an older name", `{"r.example/f/after-old:1": {}, "r.example/f/new:1": {}}`, "", "new after-old"},
		{"a folder and a link", `{"./lamp": {}, "https://r.example/q/mast.tgz": {}}`, "", "lamp mast"},
	} {
		src := source(`{"image": "a", "features": `+c.features+c.more+`}`, ".devcontainer/lamp/devcontainer-feature.json", f("lamp", ""), ".devcontainer/lamp/install.sh", "")
		src.Feature = yardOfFeatures(map[string]string{"r.example/f/a:1": f("a", `, "options": {"x": {"type": "string"}}`), "r.example/f/b:1": f("b", ""), "r.example/f/c:1": f("c", ""), "r.example/f/z:1": f("z", ""),
			"r.example/f/needs-z:1": f("needs-z", `, "dependsOn": {"r.example/f/z:1": {}}`), "r.example/f/needs-a2:1": f("needs-a2", `, "dependsOn": {"r.example/f/a:1": {"x": "2"}}`),
			"r.example/f/after-c:1": f("after-c", `, "installsAfter": ["r.example/f/c"]`), "r.example/f/after-old:1": f("after-old", `, "installsAfter": ["r.example/f/old"]`), "r.example/f/new:1": f("new", `, "legacyIds": ["old"]`), "https://r.example/q/mast.tgz": f("mast", "")})
		def, fs := Resolve(src)
		if x, bad := Fatal(fs); bad {
			t.Errorf("%s: %s", c.what, x)
			continue
		}
		var got []string
		for _, x := range def.Features {
			got = append(got, x.ID)
		}
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s: they come as %s, not as %s", c.what, s, c.want)
		}
	}
}

func TestFeatureOptions(t *testing.T) {
	m := `{"id": "a", "options": {"version": {"type": "string", "default": "latest"}, "with-sails": {"type": "boolean", "default": true}, "3colour": {"type": "string", "enum": ["red"], "default": "red"}, "none": {"type": "string"}}, "containerEnv": {"PATH": "/opt/a:${PATH}"}}`
	for options, want := range map[string]string{
		`{}`: "map[VERSION:latest WITH_SAILS:true _COLOUR:red]", `"1.2"`: "map[VERSION:1.2 WITH_SAILS:true _COLOUR:red]", `{"with-sails": false, "none": "x"}`: "map[NONE:x VERSION:latest WITH_SAILS:false _COLOUR:red]",
		`{"with-sails": "maybe"}`: "true or false", `{"3colour": "blue"}`: "is one of red", `{"keel": "1"}`: "has no option \"keel\"; name one of: 3colour, none", `["a"]`: "its options are an array", `{"version": 3.10}`: "\"version\" is a number; it must be a string", `{"version": null}`: "map[VERSION:latest WITH_SAILS:true _COLOUR:red]", `{"none": "a\nb"}`: "cannot be used",
	} {
		src := source(`{"image": "a", "features": {"r.example/f/a:1": ` + options + `}}`)
		src.Feature = yardOfFeatures(map[string]string{"r.example/f/a:1": m})
		def, fs := Resolve(src)
		if said := fmt.Sprint(fs); strings.HasPrefix(want, "map") && fmt.Sprint(def.Features[0].Options) != want || !strings.HasPrefix(want, "map") && !strings.Contains(said, want) {
			t.Errorf("%s: %v, %s", options, def.Features, said)
		}
	}
	d := Definition{User: "crew", Features: []Feature{{Options: map[string]string{"A": "it's"}, Env: map[string]string{"PATH": `/opt:${PATH}`, "Q": `"`}}, {}}}
	want := "FROM base:1\nUSER root\nENV PATH=\"/opt:${PATH}\"\nENV Q=\"\\\"\"\nCOPY 0 /tmp/yardbench-feature-0\nRUN cd /tmp/yardbench-feature-0 && chmod +x install.sh && env A='it'\\''s' _REMOTE_USER='crew' _CONTAINER_USER='root' "
	if got := FeatureFile(d, "base:1", ""); !strings.HasPrefix(got, want) || strings.Contains(got, "\nUSER \n") {
		t.Errorf("the build file is\n%s", got)
	}
	if got := FeatureFile(d, "base:1", "keeper"); !strings.HasSuffix(got, "\nUSER keeper\n") || !strings.Contains(got, "_CONTAINER_USER='keeper'") {
		t.Errorf("the build file is\n%s", got)
	}
}

// However many features there are and whatever they need, it ends, and says so.
func TestFeaturesAreBounded(t *testing.T) {
	var b strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&b, `"r.example/f/n%d:1": {}, `, i)
	}
	src := source(`{"image": "a", "features": {` + strings.TrimSuffix(b.String(), ", ") + `}}`)
	src.Feature = func(ref string) (FeatureContent, error) { // each needs two more
		return FeatureContent{Manifest: []byte(fmt.Sprintf(`{"id": "x", "dependsOn": {"%sa": {}, "%sb": {}}}`, ref, ref))}, nil
	}
	if _, fs := Resolve(src); !strings.Contains(fmt.Sprint(fs), "more than 200 features") || len(fs) > MaxFindings {
		t.Errorf("10,000 features are told in %d findings", len(fs))
	}
	src = source(`{"image": "a", "features": {"r.example/f/n:1": {}}}`)
	for want, house := range map[string]*rules.Rules{"the house rules do not let": {}, "is not looked into": nil} {
		if src.House = house; !strings.Contains(fmt.Sprint(second(Resolve(src))), want) {
			t.Errorf("it is not told that %s", want)
		}
	}
}

func second[A, B any](_ A, b B) B { return b }

func FuzzFeature(f *testing.F) {
	f.Add(`{"id": "a", "options": {"x": {"default": 1}}, "dependsOn": {"./b": {}}}`, `{"x": 1}`)
	f.Add(`{"mounts": [{"type": "bind"}], "installsAfter": [""], "containerEnv": {"A": "\n"}}`, `"v"`)
	f.Add(`{"dependsOn": {"r.example/f/a:1": {}}, "entrypoint": "x", "legacyIds": ["a"]}`, `true`)
	f.Fuzz(func(t *testing.T, manifest, options string) {
		src := source(`{"image": "a", "features": {"r.example/f/a:1": ` + options + `}}`)
		src.Feature = func(string) (FeatureContent, error) { return FeatureContent{Manifest: []byte(manifest)}, nil }
		var d Definition
		var fs []Finding
		bound.Hold(t, 256, func() { d, fs = Resolve(src) })
		if _, bad := Fatal(fs); bad {
			return
		}
		file := FeatureFile(d, "a", "")
		for _, line := range strings.Split(strings.TrimSpace(file), "\n") {
			if word, _, _ := strings.Cut(line, " "); !strings.Contains("FROM USER ENV COPY RUN", word) || word == "" {
				t.Errorf("a feature writes a line of its own: %q", line)
			}
		}
	})
}
