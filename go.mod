module plumlatch

go 1.26.0

require (
	github.com/pkg/sftp v1.13.12
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/crypto v0.58.0
	golang.org/x/term v0.47.0
	mvdan.cc/sh/v3 v3.14.1
)

require (
	github.com/kr/fs v0.1.0 // indirect
	github.com/rogpeppe/go-internal v1.16.0 // indirect
	golang.org/x/sys v0.49.0 // indirect
)
