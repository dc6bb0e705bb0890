package definition

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"yardbench/internal/core/plain"
)

// folders resolves where the clone lies and where people begin: what the
// definition names, else /workspaces/REPOSITORY as the specification's usual.
func (d *doc) folders(out *Definition, r raw, src Source) variables {
	usual := "/workspaces/" + src.Repository // the automatic mount
	v := variables{folder: usual, unfolded: &d.unfolded}
	tree := ""
	if r.WorkspaceMount != nil && *r.WorkspaceMount != "" {
		f, _ := mountFields(*r.WorkspaceMount)
		tree = path.Clean(v.put(f["target"]))
		source := path.Clean(v.put(f["source"]))
		switch {
		case f["type"] == "bind" && source != usual:
			d.say(Error, d.at("workspaceMount"), "mount ${localWorkspaceFolder}, and name the folder within in workspaceFolder", "workspaceMount mounts something else than the repository")
		case !usable(tree):
			d.say(Error, d.at("workspaceMount"), "use a folder such as "+usual, "workspaceMount cannot put the repository at %q", f["target"])
		}
		d.origin(out, "tree", "workspaceMount")
	}
	folder := usual
	switch {
	case r.WorkspaceFolder != "":
		if folder = path.Clean(v.put(r.WorkspaceFolder)); !usable(folder) {
			d.say(Error, d.at("workspaceFolder"), "use a folder such as "+usual, "workspaceFolder %q cannot be used", r.WorkspaceFolder)
		}
		if tree != "" && folder != tree && !strings.HasPrefix(folder, tree+"/") {
			d.say(Error, d.at("workspaceFolder"), "name a folder at or within it", "workspaceFolder %q lies outside of what workspaceMount mounts at %q", folder, tree)
		}
		d.origin(out, "folder", "workspaceFolder")
	case tree != "":
		folder = tree
		d.origin(out, "folder", "workspaceMount")
	default:
		out.note("folder", "usual")
	}
	if tree == "" && within(folder, usual) {
		tree = usual // only workspaceMount moves it; workspaceFolder is where people begin
	}
	out.setFolders(folder, tree)
	return (layerDoc{d}).variablesOf(*out)
}

func (o *Definition) setFolders(folder, tree string) {
	o.Folder, o.Tree = folder, tree
	if tree == folder {
		o.Tree = ""
	}
}

// usable tells whether the clone may lie at a path.
func usable(p string) bool {
	return path.IsAbs(p) && p != "/" && len(p) <= maxPath && !systemFolder.MatchString(p) && !systemRoot.MatchString(p) && !hasControl(p)
}

func hasControl(s string) bool { return plain.Text(s) != s }

// A volume must not cover what the image needs: systemFolder matches folders
// where nothing else may lie, systemRoot those in which something may, as in
// /usr/src/app and /var/www/html.
var (
	systemFolder = regexp.MustCompile(`^/(bin|boot|dev|etc|lib|lib32|lib64|libx32|proc|run|sbin|sys|\.yardbench|usr/(bin|games|include|lib|lib32|lib64|libexec|libx32|sbin|share)|usr/local/(bin|etc|include|lib|sbin|share)|var/(lock|run|lib/(apt|dpkg)))(/|$)`)
	systemRoot   = regexp.MustCompile(`^/(home|usr|usr/local|var|var/(cache|lib|log|spool))$`)
)

// MaxBeside bounds the further repositories of a workspace.
const MaxBeside = 8

var besideName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// beside reads which further repositories are wanted: those of the launch, and
// those in the definition's customizations for this product.
func (d *doc) beside(out *Definition, r raw, src Source) {
	ours, _ := r.Customizations["yardbench"].(map[string]any)
	wanted := slices.Clone(src.Beside)
	for _, s := range stringsOf(ours["repositories"]) {
		name, branch, _ := strings.Cut(s, "@")
		if !slices.ContainsFunc(wanted, func(b Beside) bool { return b.Repository == name }) {
			wanted = append(wanted, Beside{Repository: name, Branch: branch})
		}
	}
	at := d.at("customizations", "yardbench", "repositories")
	for _, b := range wanted {
		if !besideName.MatchString(b.Repository) || hasControl(b.Branch) || b.Repository == src.Repository || strings.HasPrefix(b.Branch, "-") {
			d.say(Error, at, "name registered repositories, as in \"fare-desk@main\"", "%q cannot be cloned beside %s", b.Repository, src.Repository)
			continue
		}
		out.Beside = append(out.Beside, b)
		out.note("beside."+b.Repository, d.place("customizations", "yardbench", "repositories"))
	}
	if len(out.Beside) > MaxBeside {
		d.say(Error, at, "", "%d further repositories are wanted; at most %d are allowed", len(out.Beside), MaxBeside)
	}
	if len(out.Beside) > 0 && !usable(out.Mountpoint()) {
		d.say(Error, at, "name a workspaceFolder such as /workspaces/"+src.Repository, "nothing can be cloned beside %q: the folder above holds the files too", out.TreeFolder())
	}
}
