package demo

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/client"
)

// BaseImage is what every definition of Skerry Line starts from.
const BaseImage = "skerryline/base:1"

// LoadBase puts the base image into an engine, from a root file system in a
// tar file, unless the engine has it already.
func LoadBase(ctx context.Context, engine, tar string) error {
	cli, err := client.New(client.WithHost(engine))
	if err != nil {
		return err
	}
	defer cli.Close()
	const label = "example.skerryline.base"
	made := filepath.Base(tar) // its name tells what it is made of
	if is, err := cli.ImageInspect(ctx, BaseImage); err == nil && is.Config != nil && is.Config.Labels[label] == made {
		return nil
	} else if err != nil && !errdefs.IsNotFound(err) {
		return fmt.Errorf("ask the engine at %s: %w", engine, err)
	}
	f, err := os.Open(tar)
	if err != nil {
		return err
	}
	defer f.Close()
	res, err := cli.ImageImport(ctx, client.ImageImportSource{Source: f, SourceName: "-"}, BaseImage,
		client.ImageImportOptions{Message: "Debian with git, Python and make", Changes: []string{"ENV LANG=C.UTF-8", "LABEL " + label + "=" + made, `CMD ["/bin/bash"]`}})
	if err != nil {
		return fmt.Errorf("import the base image: %w", err)
	}
	defer res.Close()
	_, err = io.Copy(io.Discard, res)
	return err
}
