package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"

	"yardbench/client"
	"yardbench/wire"
)

// A program launches a workspace, waits until it is ready, and reads what runs
// longest.
func Example() {
	ctx := context.Background()
	c, err := client.New(os.Getenv("YARDBENCH_ADDRESS"), os.Getenv("YARDBENCH_TOKEN"))
	if err != nil {
		fmt.Println(err)
		return
	}
	w, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: "tide-board", Branch: "main"})
	var refused *wire.Problem
	if errors.As(err, &refused) && refused.Status == http.StatusConflict {
		fmt.Println("not now:", refused.Detail, refused.Next)
		return
	}
	err = c.Watch(ctx, func() (stop bool, err error) {
		w, err = c.Workspaces.Show(ctx, w.Name)
		return w.Phase == "ready" || w.Phase == "failed", err
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	running, err := c.Workspaces.List(ctx, client.ListQuery{States: []string{"ready"}, Sort: "phase_at"})
	for _, r := range running {
		fmt.Println(r.Name, r.PhaseAt)
	}
	if err != nil {
		fmt.Println(err)
	}
}
