package api

import (
	"bytes"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/gin-gonic/gin"
)

// noncePlace stands in the built index.html where a nonce is to be.
const noncePlace = "NONCE-OF-THIS-ANSWER"

// console serves the built console: its files, and its index.html for every
// other path, since the console has its own routes.
func (s *Server) console() gin.HandlerFunc {
	index, indexErr := fs.ReadFile(s.opts.Console, "index.html")
	files := http.FileServerFS(s.opts.Console)
	return func(c *gin.Context) {
		p := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		if strings.HasPrefix(p, "api/") || c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
			notFound.detail(c, "the API has no such call")
			return
		}
		if indexErr != nil {
			c.String(http.StatusNotFound, "The console was not built into this binary; \"make build\" does it.\n")
			return
		}
		if p == "core.wasm" { // kept compressed: every browser that has WebAssembly takes gzip
			c.Header("Content-Type", "application/wasm")
			c.Header("Content-Encoding", "gzip")
			c.Request.URL.Path = "/core.wasm.gz"
			files.ServeHTTP(c.Writer, c.Request)
			return
		}
		if p == "core-worker.js" { // a worker has the policy that its own file came with
			c.Header("Content-Security-Policy",
				"default-src 'none'; script-src 'self' 'wasm-unsafe-eval'; connect-src 'self'")
		}
		if fi, err := fs.Stat(s.opts.Console, p); err == nil && !fi.IsDir() && p != "index.html" {
			if strings.HasPrefix(p, "assets/") { // their names hold their hash
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			files.ServeHTTP(c.Writer, c.Request)
			return
		}
		nonce, _ := secret("")
		c.Header("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+
			"'; img-src 'self' data:; font-src 'self'; connect-src 'self'; worker-src 'self'; base-uri 'none'; "+
			"form-action 'none'; frame-ancestors 'none'")
		c.Data(http.StatusOK, "text/html; charset=utf-8", bytes.ReplaceAll(index, []byte(noncePlace), []byte(nonce)))
	}
}
