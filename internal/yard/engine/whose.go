package engine

import "yardbench/internal/yard"

// Labels for people, and for records that know no more of it: whose a workspace is. Nothing
// is found by these.
const (
	labelOwner      = "yardbench.owner"
	labelName       = "yardbench.name"
	labelRepository = "yardbench.repository"
	labelBranch     = "yardbench.branch"
	labelSize       = "yardbench.size"
	labelDefinition = "yardbench.definition"
)

// labelsOf are the labels of a workspace's thing that say for people whose it is, too.
func (e *conn) labelsOf(workspace string, n int, w yard.Whose) map[string]string {
	l := e.labels(workspace, n)
	l[labelOwner], l[labelName], l[labelRepository], l[labelBranch], l[labelSize], l[labelDefinition] = w.Owner, w.Name, w.Repository, w.Branch, w.Size, w.Definition
	return l
}

// whoseIn is what labels say of that.
func whoseIn(l map[string]string) yard.Whose {
	return yard.Whose{Owner: l[labelOwner], Name: l[labelName], Repository: l[labelRepository], Branch: l[labelBranch], Size: l[labelSize], Definition: l[labelDefinition]}
}
