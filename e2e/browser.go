// Package e2e drives North Stake as its users do: the service on loopback, hosts
// in the lab over SSH, and the console in headless Chromium.
package e2e

import (
	"context"
	"os"

	"github.com/chromedp/chromedp"
)

// Browser is a headless Chromium with an empty profile and a window of the given
// size. The returned function ends it.
func Browser(ctx context.Context, width, height int) (context.Context, func(), error) {
	profile, err := os.MkdirTemp("", "northstake-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(profile),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("disable-quic", true), chromedp.NoFirstRun,
		chromedp.Flag("hide-scrollbars", true), chromedp.WindowSize(width, height))
	allocator, stop := chromedp.NewExecAllocator(ctx, options...)
	page, end := chromedp.NewContext(allocator)
	return page, func() {
		end()
		stop()
		os.RemoveAll(profile)
	}, nil
}
