# make demo: the whole job on the sample lab. make test: everything that checks.
GO       ?= go
VERSION  ?= 0.1.0
PLATFORMS = linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64 freebsd/amd64 freebsd/arm64
export CGO_ENABLED = 0

.PHONY: all demo test test-all tools cross bench ratio docs screenshots fuzz foreign package clean

all: bastion

bastion: FORCE
	@GO="$(GO)" sh scripts/build.sh bastion $(VERSION)
FORCE:

demo: bastion
	@./bastion demo

# What the tests need beside Go: installed where this runs as root on Debian,
# else what is missing is said and the tests that need it skip themselves.
tools:
	@sh scripts/tools.sh

# The race detector is for packages that start goroutines: it makes all others several times as
# slow to build and to run, and has nothing to find there. Waits for silence are most of the time of
# tests on real wires, so that more of them run at once than there are cores.
# The property tests start from RAPID_SEED, so that a run can be repeated; 0 starts each of them
# somewhere new. Of large sweeps `test` takes a sample, another one each day (TEST_DAY repeats one);
# `test-all` takes everything.
RACED = atomicfile classroom/witness format/stream render/live \
	testbed/drive testbed/field testbed/stage testbed/supervisor testbed/upstream testbed/machine/qmp
empty :=
test test-all: export RAPID_SEED ?= 20261
test-all: export TEST_ALL = 1
test-all: test
test: tools
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	@GO="$(GO)" sh scripts/vulnerabilities.sh
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	CGO_ENABLED=1 GORACE=atexit_sleep_ms=0 $(GO) test -race -timeout 12m $(addprefix ./internal/,$(RACED))
	$(GO) test -p 3 -parallel 4 -timeout 40m $$($(GO) list ./... | grep -vxE 'openbastion/internal/($(subst $(empty) ,|,$(strip $(RACED))))')

# The probe in 21 labs that nothing of ours built; `test` tries three of them.
foreign:
	TEST_ALL=1 $(GO) test ./internal/cli -run 'TestScripts/foreignfield$$'

# Each fuzz target for FUZZTIME.
FUZZTIME ?= 20s
fuzz:
	@sh scripts/fuzz.sh $(FUZZTIME)

cross:
	@for p in $(PLATFORMS); do \
		os=$${p%/*}; arch=$${p#*/}; ext=; [ $$os = windows ] && ext=.exe; \
		echo $$p; GOOS=$$os GOARCH=$$arch GO="$(GO)" sh scripts/build.sh build/$$os-$$arch/bastion$$ext $(VERSION) || exit 1; \
	done

# Archives for every platform and packages for Debian, in build/out.
package:
	@GO='$(GO)' sh scripts/package.sh $(VERSION) $(PLATFORMS)

bench: bastion
	$(GO) test -run '^$$' -bench . -benchtime 1s ./...
	@sh bench/startup.sh
	@sh bench/growth.sh

# Test code should be a quarter to a third of all Go and script lines.
ratio:
	@sh scripts/ratio.sh

# The pages that are made from the program itself.
docs: bastion
	./bastion explain --form markdown > docs/findings.md

screenshots: bastion
	@sh scripts/screenshots.sh

clean:
	rm -rf bastion build
