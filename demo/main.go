// Command demo starts all of North Stake on this machine with two practice
// hosts, applies the Saltmarsh Ferries ground to them, changes one thing by
// hand, and shows that it is found. It ends what it started, and cleans up.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"northstake/lab"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	d, err := find()
	if err == nil {
		switch {
		case len(os.Args) == 2 && os.Args[1] == "up":
			err = d.up(ctx)
		case len(os.Args) == 2 && os.Args[1] == "images":
			err = lab.MakeImages(ctx, os.Stdout)
		case len(os.Args) == 2 && os.Args[1] == "stop":
			err = d.stop(ctx)
		case len(os.Args) == 2 && os.Args[1] == "clean":
			err = d.clean(ctx)
		default:
			err = fmt.Errorf("say images, up, stop or clean")
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(2)
	}
}

// progress prints a line for a part, and how long it took when it has ended.
func progress(format string, args ...any) func(string) {
	start := time.Now()
	what := fmt.Sprintf(format, args...)
	fmt.Printf("  %s …\n", what)
	return func(end string) {
		fmt.Printf("  %s: %s (%.1f s)\n", what, end, time.Since(start).Seconds())
	}
}
