# See CONTRIBUTING.md for what each is for.
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null)
FUZZTIME ?= 30s
LONG ?= 1h

.PHONY: build test race demo bench models screenshots fuzz lint reference

build: ## one static program in bin/
	CGO_ENABLED=0 go build -trimpath -ldflags '-X fencepost/internal/cli.version=$(VERSION)' -o bin/fencepost ./cmd/fencepost

test:
	go test ./...

race:
	go test -race ./...

demo:
	go run ./cmd/fencepost demo

bench: ## parts, then the whole program beside its ceilings
	go test -run '^$$' -bench . ./zone ./zonefile ./message ./answer ./dnssec ./signer ./transfer
	go run ./bench

models: ## each test against a model or a reference for LONG
	for p in answer zone zonefile store lint/checks; do go test -timeout 0 ./$$p -long $(LONG) || exit 1; done

screenshots: build ## needs Xvfb, xterm, ImageMagick, librsvg and Chromium
	scripts/screenshots bin/fencepost docs/screenshots

reference: build ## docs/findings.md and docs/configuration.md, from the catalogues
	bin/fencepost explain --all >docs/findings.md
	{ printf '# fencepost.toml\n\nMade by `fencepost explain fencepost.toml`.\n\n```toml\n'; bin/fencepost explain fencepost.toml; printf '```\n'; } >docs/configuration.md

fuzz: ## each target for FUZZTIME
	scripts/fuzz $(FUZZTIME)

lint: ## staticcheck, of the version that tools/go.mod names
	scripts/lint
