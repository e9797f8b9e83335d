.PHONY: help build man release test test-short race cover lint figures check bench cluster matrix faults fuzz golden licences screenshots clean

help: ## what there is to make
	@awk -F ':.*## ' '/^[a-z-]+:.*## /{printf "%-12s %s\n", $$1, $$2}' $(MAKEFILE_LIST)

build: ## one static program, bin/evensprout
	CGO_ENABLED=0 go build -trimpath -o bin/evensprout ./cmd/evensprout

man: ## manual pages, in bin/man
	go run ./scripts/manpages bin/man

release: ## programs for five systems with checksums and bills of materials, in dist/
	scripts/release.sh

test: ## all tests
	go test -timeout 40m ./...

test-short: ## the tests that need no server and no built program: half a minute
	go test -short ./...

race: ## the tests with the race detector; about four times as long
	go test -race -timeout 90m ./...

cover: ## how much of the code the tests run, as a page: bin/coverage.html
	mkdir -p bin
	go test -timeout 60m -coverpkg=./internal/... -coverprofile=bin/coverage.out ./...
	go tool cover -html=bin/coverage.out -o bin/coverage.html

lint: ## formatting, vet, staticcheck and the figures
	test -z "$$(gofmt -l cmd internal fixture security scripts docs)"
	go vet ./...
	go tool -modfile=scripts/tools/go.mod staticcheck ./...
	go run ./scripts/figures -hold

figures: ## what can be counted about the code, with places
	go run ./scripts/figures -v

check: ## formatting, linters, demo and all tests, as continuous integration does
	.ci/run

bench: ## the core's figures against what we want, and loads against what the engines bring along
	scripts/bench-core.sh
	scripts/bench-sqlite.sh
	scripts/bench-writing.sh
	scripts/bench-units.sh

matrix: ## the tests on PostgreSQL 12 to 18, whose programs are downloaded: half an hour
	scripts/matrix.sh

cluster: ## a load into a cluster of three MariaDB nodes, of which one is killed
	scripts/try-cluster.sh

faults: ## the long form of the tests that kill programs and servers and cut connections
	EVENSPROUT_FAULTS=long go test ./cmd/evensprout -count=1 -timeout 2h -v -run 'Killed|Cut|Promotions'
	EVENSPROUT_FAULTS=long go test ./internal/withdraw -count=1 -timeout 1h -run TestUndoOfEveryWayToLoad

fuzz: ## half a minute for each reader
	scripts/fuzz.sh 30

golden: ## write the examples of the docs anew, and rows of new kinds and sources
	go test ./internal/draft -run Sample -update
	go test ./internal/grow ./internal/plan -run 'Golden|Schema' -update
	go test ./cmd/evensprout -run Docs -update
	go test ./internal/cli -run Catalog -update

licences: ## docs/dependencies.md, from the modules that the program is built from
	scripts/licences.sh

screenshots: ## docs/screenshots, from the demo's data
	scripts/screenshots.sh

clean:
	rm -rf bin larkwater
