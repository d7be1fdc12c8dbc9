// Package static holds what pages load beside themselves: styles, scripts, fonts. It is part of the program.
package static

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"io/fs"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
)

//go:embed *.css *.js *.svg fonts
var files embed.FS

// sums are the beginnings of the files' SHA-256, by their names.
var sums = map[string]string{}

func init() {
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := files.ReadFile(name)
		sum := sha256.Sum256(b)
		sums[name] = hex.EncodeToString(sum[:8])
		return err
	})
	if err != nil {
		panic(err) // they are embedded
	}
}

// Fonts are the files of the letters that nearly every page has: pages ask for them before their styles do.
func Fonts() []string {
	const next, mono = "fonts/atkinson-hyperlegible-next-latin-", "fonts/atkinson-hyperlegible-mono-latin-"
	return []string{next + "400-normal.woff2", next + "700-normal.woff2", mono + "400-normal.woff2"}
}

// Address is the address of a file as it is: another content has another, so that browsers ask for it once.
func Address(name string) string { return "/static/" + name + "?v=" + sums[name] }

// Serve sends the file that the rest of an address names; ok is false if there is none.
func Serve(c *gin.Context, rest string) (ok bool) {
	name := strings.TrimPrefix(rest, "/")
	sum, ok := sums[name]
	if !ok { // folders list nothing
		return false
	}
	c.Header("Cache-Control", "no-cache")
	if c.Query("v") == sum {
		c.Header("Cache-Control", "public, max-age=31536000, immutable")
	}
	c.Header("ETag", `"`+sum+`"`)
	c.FileFromFS(name, http.FS(files))
	return true
}
