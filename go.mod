module fencepost

go 1.26.8

require (
	github.com/google/renameio/v2 v2.0.2
	github.com/pelletier/go-toml/v2 v2.4.3
)
