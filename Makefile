# The two commands: make demo, make test. Both set up what they need.
.PHONY: demo test build console bench pictures clean

demo: ## a whole made-up world on loopback, and the console (FRESH=1 begins anew)
	@scripts/prepare.sh postgresql docker-registry
	@$(MAKE) --no-print-directory build
	@go build -o bin/demo ./cmd/demo
	@exec bin/demo $(if $(FRESH),-fresh)

test: ## everything CI runs
	@scripts/test.sh

build: console
	@go build -o bin/dovrak ./cmd/dovrak

console: console/node_modules/.package-lock.json
	@go run ./cmd/openapi > api/openapi.json
	@rm -rf console/dist/assets
	@cd console && npm run --silent build

console/node_modules/.package-lock.json: console/package-lock.json
	@cd console && npm ci --ignore-scripts --no-audit --no-fund --loglevel=error
	@touch $@

bench: ## the figures of docs/performance.md
	@scripts/prepare.sh postgresql
	@scripts/within.sh go test -run '^$$' -bench . -benchtime 3x -timeout 30m ./test/

pictures: ## docs/screenshots anew, from a fresh demo
	@scripts/prepare.sh postgresql docker-registry chromium xvfb xterm imagemagick fonts-jetbrains-mono
	@$(MAKE) --no-print-directory build
	@go build -o bin/demo ./cmd/demo
	@scripts/pictures.sh

clean:
	@rm -rf bin var console/dist/assets console/dist/index.html console/node_modules
