package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

func gitHost(host, more string) string { return "/git-hosts/" + url.PathEscape(host) + more }

// List lists them.
func (c GitHosts) List(ctx context.Context) ([]wire.GitHost, error) {
	return all[wire.GitHost](ctx, c.link, "/git-hosts")
}

// Put registers one, or changes it.
func (c GitHosts) Put(ctx context.Context, host string, in wire.PutGitHost) (wire.GitHost, error) {
	return call[wire.GitHost](ctx, c.link, "PUT", gitHost(host, ""), in)
}

// Drop removes one.
func (c GitHosts) Drop(ctx context.Context, host string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", gitHost(host, ""), nil)
	return err
}

// Repositories lists what a host lets one read.
func (c GitHosts) Repositories(ctx context.Context, host string) ([]wire.HostedRepository, error) {
	return all[wire.HostedRepository](ctx, c.link, gitHost(host, "/repositories"))
}

// BeginCode begins to connect by a code.
func (c GitHosts) BeginCode(ctx context.Context, host string) (wire.GitHostCode, error) {
	return call[wire.GitHostCode](ctx, c.link, "POST", gitHost(host, "/codes"), nil)
}

// AskCode asks whether it was typed.
func (c GitHosts) AskCode(ctx context.Context, host, kept string) (bool, error) {
	a, err := call[wire.GitHostAnswer](ctx, c.link, "POST", gitHost(host, "/code-answers"), wire.GitHostAsk{Kept: kept})
	return a.Connected, err
}
