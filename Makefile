# hgate is built and tested with Go, make and git alone; `make screenshots` takes Xvfb, xterm and ImageMagick too.
FUZZTIME ?= 3s

.PHONY: build demo test lint platforms vulnerabilities fuzz mutants bench bench-short docs screenshots zones release release-check

build:
	CGO_ENABLED=0 go build -buildvcs=auto -trimpath -ldflags '-s -w' -o bin/hgate ./cmd/hgate

demo: build
	./bin/hgate demo

lint:
	go vet ./...
	go tool -modfile=tools/go.mod staticcheck ./...
	@test -z "$$(gofmt -l .)" || { echo "gofmt these files:"; gofmt -l .; exit 1; }
	@! LC_ALL=C.UTF-8 grep -rnE --include='*.go' '^.{121,}' cmd internal || { echo "these lines have more than 120 columns"; exit 1; }

# The race detector needs cgo and a C compiler, and takes its time. With it, what draws estates or judges changes does less,
# and runs again in full without it: DRAWING are the packages that do. Of the gate's own tests it sees those in which much
# runs at once, TOGETHER. SERVED run the built program or ask servers: there what runs at once does so in other processes,
# which the detector does not see.
DRAWING := ./internal/gate ./internal/change ./internal/escalation
TOGETHER := ^Test(Forks|EveryWayIn|CountsAre|HoldersAre|GateAndOracle)
SERVED := ./cmd/... ./internal/target/...
test: lint
	@if [ "$$(go env CGO_ENABLED)" = 1 ] && command -v $$(go env CC) >/dev/null; then export HGATE_ESTATES=20 HGATE_SAMPLE=yes; \
	  go test -race -timeout 40m $$(go list ./... | grep -vxF "$$(go list $(SERVED) ./internal/gate)") && \
	  go test -race -timeout 40m -short -run '$(TOGETHER)' ./internal/gate && unset HGATE_ESTATES HGATE_SAMPLE && \
	  go test -timeout 40m $(SERVED) $(DRAWING); \
	else echo "no C compiler: without the race detector"; go test -timeout 40m ./...; fi
	$(MAKE) fuzz

# Every system for which the program is built, and one with numbers of 32 bits; what differs between processors of 64 bits is Go's.
platforms:
	@cd tools && go run ./platforms .. linux/386 darwin/arm64 windows/amd64

# Known faults of what the program is made of; it asks vuln.go.dev.
vulnerabilities:
	go run golang.org/x/vuln/cmd/govulncheck@v1.9.0 ./...

# Where the time is over while a target is still at work, Go tells that as a failure ("context deadline exceeded"); so one
# that fails is tried again. An input at fault is kept in testdata, and fails again at once.
fuzz:
	@for target in policyfile/Load policyfile/Subject policyfile/Operation policyfile/Resource policyfile/Condition policyfile/Time evaluation/Batch \
	  policyfile/Inventory splice/Edits visible/JSON directory/Directories revision/Tree cli/Sheet cli/Log journal/Plan cache/Snapshot \
	  target/postgres/Quoting target/postgres/RowPolicy target/mariadb/Quoting target/ldap/Entries target/linux/Quoting target/linux/Reading standin/Line standin/Settings standin/network/Session \
	  credential/Request credential/Certificate credential/Bundle credential/Alternatives credential/Verifier target/simulated/Reading target/simulated/Address; do \
	  echo "fuzzing $$target"; \
	  run="go test ./internal/$${target%/*} -run ^$$ -fuzz ^Fuzz$${target##*/}\$$ -fuzztime $(FUZZTIME) -fuzzminimizetime 50x"; \
	  $$run || $$run || exit 1; \
	done

# Each rule of the gate is flipped in turn; the tests must notice.
mutants:
	./scripts/mutants

# Every figure beside its yardstick, and every command on hard shapes; docs/performance.md explains them. It takes two
# hours. bench-short takes a minute and sees that everything runs, and that what can be counted in two ways comes to the
# same.
bench: build
	go test ./internal/cli -run '^$$' -bench . -benchtime 11x
	go run ./cmd/bench
	go run ./cmd/bench -commands 1000,10000,100000

bench-short: build
	go run ./cmd/bench -short

docs:
	go run ./cmd/makedocs

screenshots: build
	./scripts/screenshots

# A newer edition of the time zones, from the Go distribution in use.
zones:
	cp "$$(go env GOROOT)/lib/time/zoneinfo.zip" internal/clock/zoneinfo.zip

# What users install, in dist: for every system, with manual pages, completions, packages and checksums.
release:
	rm -rf dist
	go run ./cmd/release -to dist

# The same commit gives the same bytes: two clones in two places, with a build cache for each, come to the same checksums.
release-check:
	./scripts/release-check
