package definition

import (
	"fmt"
	"strings"
	"testing"
)

// What a build file comes to is bounded before anything makes a graph of it;
// ordinary ones are far from it.
func TestBuildCost(t *testing.T) {
	big := strings.Repeat("x", 60_000) // a line has at most 65,535 bytes
	for _, c := range []struct {
		what, file string
		args       map[string]string
		says       string // "" where it is fine
	}{
		{"an ordinary one", "ARG V=1\nFROM a:${V} AS one\nENV A=1 B=\"$A two\"\nRUN for i in 1 2 3; do echo $i $i $i; done\nFROM one\nCOPY --from=one /x /y\nLABEL a=$A\n", nil, ""},
		{"one that doubles", "FROM a\nENV A=xxxxxxxxxxxxxxxx\n" + strings.Repeat("ENV A=$A$A\n", 30), nil, "variables come to more"},
		{"by an argument", "FROM a\nARG A\n" + strings.Repeat("ARG A=${A}${A}\n", 30), map[string]string{"A": "x"}, "variables come to more"},
		{"by an argument that is given", "FROM a\nARG A\nENV " + strings.Repeat("B=$A ", 80), map[string]string{"A": big}, "variables come to more"},
		{"over stages", "FROM a AS s0\nENV A=xx\n" + func() (s string) {
			for i := range 30 {
				s += fmt.Sprintf("FROM s%d AS s%d\nENV A=$A$A\n", i, i+1)
			}
			return s
		}(), nil, "variables come to more"},
		{"before the first stage", "ARG A=xxxxxxxxxxxxxxxx\n" + strings.Repeat("ARG A=$A$A\n", 30) + "FROM a\n", nil, "variables come to more"},
		{"by replacing each letter", "FROM a\nENV A=" + strings.Repeat("x", 3000) + "\nENV B=${A//x/" + strings.Repeat("y", 3000) + "}\n", nil, "variables come to more"},
		{"of which nothing is known", "FROM a\n" + strings.Repeat("ENV A=$A$A\n", 12), nil, "variables come to more"},
		{"a path behind a variable is no pattern", "FROM a\nENV A=" + strings.Repeat("x", 60_000) + "\n" + strings.Repeat("LABEL x=${A}/"+strings.Repeat("p", 99)+"\n", 50), nil, ""},
		{"names that begin alike", "FROM a\nENV A=" + big + " AB=1 A_1=2\n" + strings.Repeat("LABEL x=$AB y=$A_1 z=${AB}\n", 200), nil, ""},
		{"an environment that comes to as much as is allowed", "FROM a\nENV AAAA=" + strings.Repeat("x", 65_000) + "\n" + strings.Repeat("RUN x\n", maxBuildEnv/65_004), nil, ""},
		{"and one command more", "FROM a\nENV AAAA=" + strings.Repeat("x", 65_000) + "\n" + strings.Repeat("RUN x\n", maxBuildEnv/65_004+1), nil, "environments of its commands"},
		{"as many stages as are allowed", strings.Repeat("FROM a\n", maxStages), nil, ""},
		{"a stage of no name knows nothing of another", "FROM a\nENV A=" + big + "\nFROM a\n" + strings.Repeat("RUN x\n", 1200), nil, ""},
		{"in labels", "FROM a\nENV A=" + big + "\n" + strings.Repeat("LABEL x=$A\n", 80), nil, "variables come to more"},
		{"in text that is put in", "FROM a\nENV A=" + big + "\nCOPY <<E /x\n" + strings.Repeat("$A\n", 80) + "E\n", nil, "variables come to more"},
		{"commands with much around them", "FROM a\nENV A=" + big + "\n" + strings.Repeat("RUN x\n", 1200), nil, "environments of its commands"},
		{"commands with little", "FROM a\nENV A=1\n" + strings.Repeat("RUN x\n", 1900), nil, ""},
		{"many instructions", "FROM a\n" + strings.Repeat("RUN x\n", maxInstructions), nil, "more than the 2000 instructions"},
		{"as many as are allowed", "FROM a\n" + strings.Repeat("RUN x\n", maxInstructions-1), nil, ""},
		{"many stages", strings.Repeat("FROM a\n", maxStages+1), nil, "more than the 500 stages"},
		{"a shell's own dollar signs", "FROM a\nRUN echo " + strings.Repeat("$A", 40_000) + "\n", nil, ""},
		{"which cannot be read", "FROM", nil, ""},
		{"a dollar sign at the end, and one that never ends", "FROM a\nENV A=$ B=${\n", nil, ""},
	} {
		err := CheckBuildCost([]byte(c.file), c.args)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
	src := source(`{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile", "FROM a\nENV A=xx\n"+strings.Repeat("ENV A=$A$A\n", 30))
	if _, fs := Check(src); !strings.Contains(fmt.Sprint(fs), "variables come to more") {
		t.Errorf("a check says %v", fs)
	}
}
