// Command pictures takes the console's pictures of a running demo, into docs/screenshots.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"dovrak/test/browser"
)

// view is a page to be pictured. until says when it has come to rest.
type view struct {
	file, path, until string
	width, height     int64
	night             bool
}

var views = []view{
	// The first: it goes on while it is pictured.
	{"copy", "/copies/2", "document.querySelector('.strata.thin') && document.body.innerText.includes('a second')", 1280, 800, false},
	{
		"promotion",
		"/promotions/15",
		"document.querySelectorAll('.gates tbody tr').length > 6 && document.querySelector('#remark') && document.querySelector('.pairs')",
		1280,
		800,
		false,
	},
	{
		"standing",
		"/",
		"document.querySelectorAll('.ledger .plate').length > 4 && document.body.innerText.includes('Live:')",
		1280,
		800,
		false,
	},
	{
		"history",
		"/history/snowpack-model",
		"document.querySelector('.span') && document.body.innerText.includes('Live:')",
		1280,
		800,
		false,
	},
	{
		"image",
		"/image/forge/bench/snowpack-model:build-41",
		"document.querySelectorAll('.pairs li').length > 6 && document.querySelector('.seg')",
		1280,
		800,
		false,
	},
	{
		"tags",
		"/tags/forge/bench/snowpack-model",
		"document.querySelectorAll('.lines tbody tr').length > 5 && document.body.innerText.includes('all seen')",
		1280,
		800,
		false,
	},
	{"across", "/across/snowpack-model", "document.body.innerText.includes('differs')", 1280, 800, false},
	{
		"compare",
		"/compare?a=hut/live/snowpack-model:2.13.2&b=ridge/trial/snowpack-model:2.13.2",
		"document.querySelectorAll('.platform').length > 2",
		1280,
		800,
		false,
	},
	{
		"registries",
		"/registries/ridge",
		"document.querySelectorAll('.steps tr').length > 9 && document.querySelector('.pairs li')",
		1280,
		800,
		false,
	},
	{
		"builds",
		"/builds/snowpack-model",
		"document.querySelectorAll('.builds tbody tr').length > 4 && document.body.innerText.includes('for build')",
		1280,
		800,
		false,
	},
	{"build", "/builds/snowpack-model/43", "document.querySelectorAll('.took').length > 1", 1280, 800, false},
	{
		"charter",
		"/charter",
		"document.querySelector('.strip .frozen') && document.querySelectorAll('.rules').length > 2",
		1280,
		800,
		false,
	},
	{
		"component",
		"/components/snowpack-model",
		"document.querySelectorAll('.lines tbody tr').length > 4 && document.body.innerText.includes('Live:')",
		1280,
		800,
		false,
	},
}

func main() {
	server := flag.String("server", "http://127.0.0.1:8620", "the running demo")
	token := flag.String("token", "var/demo/ylva.token", "file of a token that may read and approve")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	only := flag.String("only", "", "names of pictures, with commas between; empty is all")
	flag.Parse()
	if err := run(*server, *token, *out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "pictures:", err)
		os.Exit(1)
	}
}

func run(server, tokenFile, out, only string) (err error) {
	token, err := os.ReadFile(tokenFile)
	if err != nil {
		return err
	}
	b, end, err := browser.Start(context.Background())
	if err != nil {
		return err
	}
	defer func() {
		if eerr := end(); err == nil {
			err = eerr
		}
	}()
	if err := b.SignIn(server, strings.TrimSpace(string(token))); err != nil {
		return err
	}
	for _, v := range views {
		if only != "" && !strings.Contains(","+only+",", ","+v.file+",") {
			continue
		}
		if err := take(b, server, out, v); err != nil {
			return fmt.Errorf("%s: %w", v.file, err)
		}
	}
	return nil
}

func take(b *browser.Browser, server, out string, v view) error {
	for _, step := range []func() error{
		func() error { return b.Size(v.width, v.height) },
		func() error { return b.Night(v.night) },
		func() error { return b.Open(server + v.path) },
		func() error { return b.Until(v.until + " && document.fonts.status === 'loaded'") },
		func() error { return b.Picture(filepath.Join(out, v.file+".png")) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}
