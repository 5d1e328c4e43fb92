module fencepost

go 1.26.8

require (
	github.com/google/renameio/v2 v2.0.2
	github.com/pelletier/go-toml/v2 v2.4.3
	go.etcd.io/bbolt v1.5.0
	golang.org/x/sync v0.24.0
)

require (
	github.com/cloudflare/circl v1.6.5
	github.com/dchest/siphash v1.2.3
	github.com/fsnotify/fsnotify v1.10.1
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/sourcegraph/jsonrpc2 v0.2.3
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.10
	golang.org/x/net v0.62.0
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	golang.org/x/crypto v0.58.0 // indirect
	golang.org/x/text v0.43.0 // indirect
)
