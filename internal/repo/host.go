package repo

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"

	"yardbench/internal/gitssh"
)

// atHost runs git with a git host, at the address that it is given: the
// repository's own where git speaks HTTP itself. By SSH it is a connection that is
// there already (git-remote-fd(1)), on which the service has signed in: the key
// comes into no process and no file.
func atHost(ctx context.Context, address string, c Credential, prepare func(at string) (*exec.Cmd, error)) ([]byte, error) {
	remote, over := gitssh.Parse(address)
	if !over {
		cmd, err := prepare(address)
		if err != nil {
			return nil, err
		}
		out, err := output(cmd)
		if err != nil {
			return nil, hostProblem(address, c, err)
		}
		return out, nil
	}
	cmd, err := prepare("fd::3,4") // ExtraFiles begin at 3
	if err != nil {
		return nil, err
	}
	theirsIn, ourOut, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	ourIn, theirsOut, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, theirsIn.Close(), ourOut.Close())
	}
	cmd.ExtraFiles = []*os.File{theirsIn, theirsOut}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	said := limited{most: 1 << 20}
	ended := make(chan error, 1)
	go func() {
		_, err := gitssh.Run(ctx, remote, c.SSH, gitssh.Call{Program: "git-upload-pack", In: ourIn, Out: ourOut, Err: &said})
		ourOut.Close() // git sees the end of it, and says so
		ended <- err
	}()
	out, err := output(cmd)
	// Git has ended: what it held open, and what waits for it, ends with it.
	_, _, _ = theirsIn.Close(), theirsOut.Close(), ourIn.Close()
	cancel()
	overSSH := <-ended
	if err == nil {
		return out, nil
	}
	if problem := keyProblem(overSSH, c); problem != nil {
		return nil, problem
	}
	if g := (gitError{}); errors.As(err, &g) && said.kept.Len() > 0 {
		g.message = strings.TrimSpace(string(bytes.ToValidUTF8(said.kept.Bytes(), []byte("?"))))
		err = g
	}
	return nil, hostProblem(address, c, err)
}

// keyProblem puts what stands in the way of a connection by SSH into our words; nil
// for what git says better.
func keyProblem(err error, c Credential) error {
	var unknown gitssh.Unknown
	var another gitssh.Another
	var refused gitssh.Refused
	var away gitssh.Away
	switch {
	case errors.As(err, &unknown):
		return Problem{unknown.Error(), "an operator compares that with what the host's people say, and adds it to the house rules, under git: {host_keys: {\"" + unknown.Host + "\": [\"" + unknown.Key + "\"]}}"}
	case errors.As(err, &another):
		return Problem{another.Error(), "an operator asks the host's people, and puts the new key in the house rules, under git.host_keys"}
	case errors.As(err, &refused) && c.SSH.Key == "":
		return SignIn{Problem{"the git host " + refused.Host + " lets in by a key alone, and you have none", "make one with: yardbench me git-key --new"}, "make one", LacksKey, refused.Host}
	case errors.As(err, &refused):
		return SignIn{Problem{"the git host " + refused.Host + " refuses your key", "put the public half of it there, which says: yardbench me git-key"}, "put the public half of it there", LacksKeyThere, refused.Host}
	case errors.As(err, &away) && !errors.Is(err, context.Canceled):
		return Problem{away.Error(), "try again when it answers"}
	}
	return nil
}
