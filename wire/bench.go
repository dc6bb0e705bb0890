package wire

// Bench is what the work area in the browser does in a workspace.
type Bench struct {
	Definition string          `json:"definition,omitempty" doc:"The file whose customizations hold, from the workspace folder; as it stands in the workspace now"`
	Editor     BenchEditor     `json:"editor"`
	PassedOver []string        `json:"passed_over" doc:"Settings of editors that the customizations have and that mean nothing here"`
	Languages  []BenchLanguage `json:"languages"`
	Adapters   []BenchAdapter  `json:"adapters"`
	Debugging  []Debugging     `json:"debugging" doc:"Ways to begin debugging: those of the definition, else those that the tree offers"`
	Problems   []string        `json:"problems" doc:"What of the definition's customizations is not understood"`
}

// BenchEditor is how files are written. What is not said is left to the editor.
type BenchEditor struct {
	TabSize      int   `json:"tab_size,omitempty" minimum:"1" maximum:"16"`
	Tabs         *bool `json:"tabs,omitempty" doc:"Indent by tabs"`
	Rulers       []int `json:"rulers,omitempty" doc:"Columns that are marked"`
	Trim         bool  `json:"trim,omitempty" doc:"Blanks at the ends of lines go when a file is saved"`
	FinalNewline bool  `json:"final_newline,omitempty" doc:"A file ends with a line's end when it is saved"`
	FormatOnSave bool  `json:"format_on_save,omitempty" doc:"Its language's program formats it when it is saved"`
}

// BenchLanguage is a language that a program may serve by the Language Server Protocol.
type BenchLanguage struct {
	ID      string   `json:"id" example:"python" doc:"As the protocol has it"`
	Files   []string `json:"files" doc:"Patterns of names"`
	Program string   `json:"program,omitempty" example:"pylsp" doc:"What serves it; without it nothing that could is there"`
	Own     bool     `json:"own,omitempty" doc:"The definition says which"`
	Line    string   `json:"line" doc:"What to add to the definition, or to its build file, to have it served"`
}

// BenchAdapter is a program that debugs by the Debug Adapter Protocol.
type BenchAdapter struct {
	ID    string `json:"id" example:"python"`
	There bool   `json:"there" doc:"The workspace has it"`
	Own   bool   `json:"own,omitempty" doc:"The definition says which"`
	Line  string `json:"line,omitempty" doc:"What to add to the definition's build file to have it"`
}

// Debugging is a way to begin debugging.
type Debugging struct {
	Name    string         `json:"name" example:"The board"`
	Adapter string         `json:"adapter" example:"python"`
	Request string         `json:"request" enum:"launch,attach"`
	With    map[string]any `json:"with" doc:"What the adapter takes, in its own words"`
	Port    int            `json:"port,omitempty" doc:"An adapter listens there already, on the workspace's loopback: none is begun"`
	Found   bool           `json:"found,omitempty" doc:"It was made of what the tree holds"`
}
