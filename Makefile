# Build, test and look at Calm Dawn. CONTRIBUTING.md explains what needs what.

export CGO_ENABLED = 0
NEEDS = git rpm postgresql man-db gcc libc6-dev e2fsprogs systemd-container mmdebstrap chromium bash-completion zsh fish less tmux python3-hivex libwin-hivex-perl icoutils liblnk-utils ntfs-3g openssl procps wine wine64 python3-evtx libevtx-utils xvfb i3-wm sway lxsession dbus-daemon
SUDO = $(if $(filter 0,$(shell id -u)),,sudo)

.PHONY: build dist test test-all outer deps check vulnerabilities bench bench-forecast bench-mutants bench-real bench-recorder bench-statistics bench-stops bench-vm bench-workshop pictures size

# One static program.
build:
	go build -trimpath -ldflags=-s -o calmdawn ./cmd/calmdawn

# The files of a release, in dist: archives, packages, checksums, bills of
# materials. ONLY=linux/amd64,windows/amd64 makes those alone.
dist:
	cd packaging && GOTOOLCHAIN=$(TOOLCHAIN) go run ./dist -source .. -o ../dist -only "$(ONLY)"
TOOLCHAIN = $(shell sed -n 's/^toolchain //p' go.mod)

# The tests, after installing what they need on a Debian machine; a quarter of
# an hour. docs/testing.md says what each ring proves. What could not be
# measured, because the computer was busy, is told before the release is tried.
test: deps
	$(call rings,middle,20m)
	cd packaging && CALMDAWN_RING=middle go test -timeout 20m ./...

# The same and the outer ring: every size, every width, hundreds of stops. CI
# runs it after make test.
test-all: test outer

outer: deps
	CGO_ENABLED=1 go test -race ./internal/visit ./internal/review ./internal/windows/registry
	$(call rings,outer,40m)

# Real boots run by themselves: what runs beside them is measured too.
define rings
	@rm -f $(NOT_MEASURED); code=0; \
	CALMDAWN_RING=$(1) go test -timeout $(2) $$(go list ./... | grep -v /internal/boottest$$) || code=1; \
	CALMDAWN_RING=$(1) CALMDAWN_NOT_MEASURED=$(NOT_MEASURED) go test -timeout $(2) ./internal/boottest || code=1; \
	if [ -s $(NOT_MEASURED) ]; then echo; cat $(NOT_MEASURED); rm -f $(NOT_MEASURED); fi; exit $$code
endef
NOT_MEASURED = $(or $(TMPDIR),/tmp)/calmdawn-not-measured

deps:
	@for p in $(NEEDS); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then \
		echo "installing$$missing"; \
		$(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
	fi

# How large the program is, by modules, into docs/size.md. The check fails where
# it grows by more than two in a hundred over that.
size:
	go run ./.ci/size

# What CI checks besides the tests.
check:
	@unformatted=$$(gofmt -l cmd internal packaging .ci); [ -z "$$unformatted" ] || { echo "gofmt would change: $$unformatted"; exit 1; }
	@go run ./.ci/width
	@go run ./.ci/plain
	@go run ./.ci/size -check
	go vet ./...
	go tool staticcheck ./...
	cd packaging && go vet ./... && go tool staticcheck ./...
	@for on in windows/amd64 darwin/arm64; do echo "vet for $$on"; GOOS=$${on%/*} GOARCH=$${on#*/} go vet ./... || exit 1; done
	@echo "compiling for linux/arm64"; GOARCH=arm64 go build -o /dev/null ./cmd/calmdawn

# Known vulnerabilities in what the program calls. Where the database cannot be
# reached, that is told and is no failure.
vulnerabilities:
	@code=0; out=$$(go tool govulncheck ./cmd/calmdawn 2>&1) || code=$$?; \
	case "$$code $$out" in \
	0*) echo "no known vulnerability is called" ;; \
	*"fetching vulnerabilities"*) echo "vulnerabilities: not checked: no database" ;; \
	*) echo "$$out"; exit 1 ;; \
	esac

# Benchmarks print ratios taken within one run.
bench:
	go test -run '^$$' -bench . ./...
	go test -run '^$$' -fuzz FuzzHive -fuzztime 1m ./internal/windows/hive

# Forecasts against real boots and logins: CALMDAWN_MACHINES, CALMDAWN_CASES and CALMDAWN_BOOTS set how many, CALMDAWN_KIND which (long, short,
# desktop, units). Results are lines of a file that is gone on with; delete it to begin anew. The table is for docs/forecast-accuracy.md.
FORECASTS = $(or $(XDG_CACHE_HOME),$(HOME)/.cache)/calmdawn/forecasts.jsonl
bench-forecast: deps
	CALMDAWN_RING=outer CALMDAWN_FORECASTS=$(FORECASTS) go test ./internal/boottest -run 'TestForecastAccuracy|TestForecastTable' -v -timeout 24h

# Real desktops as an archive makes them, with servers: what belongs to the system, advice, forecast against outcome. Some hours, 10 GB of disk.
bench-real: deps
	$(SUDO) apt-get install -y -qq --no-install-recommends mate-session-manager lxqt-session openbox python3-xdg xfce4-session plasma-workspace >/dev/null
	CALMDAWN_RING=outer CALMDAWN_DESKTOPS=1 go test ./internal/linux -run TestRealSessionManagers -v
	CALMDAWN_RING=outer CALMDAWN_REAL=1 go test ./internal/boottest -run TestRealMachines -v -timeout 12h

# What the recorder itself costs while it watches a login of sixty programs.
bench-recorder: deps
	CALMDAWN_RING=outer CALMDAWN_COST=1 go test ./internal/boottest -run TestRecorderCost -v

# The built program killed before every writing system call of every kind of change, and each of what a person may do then: about an hour.
bench-stops:
	CALMDAWN_RING=outer CALMDAWN_STOPS=all go test ./internal/stoptest -run TestStops -v -timeout 4h

# Sixty small changes of the code, one at a time, and which tests notice them: about two hours. MUTANTS passes flags, as -n 10 -seed 2.
bench-mutants: deps
	go run ./.ci/mutants $(MUTANTS)

# How often verdicts and intervals are right, by simulation: the table of docs/statistics.md.
bench-statistics:
	CALMDAWN_STATISTICS=1 go test ./internal/core/compare -run TestErrorRatesTable -v -timeout 1h

# A whole virtual machine under software emulation: made, the recorder put onto its disk, booted twice by firmware and loader. Needs qemu-system-x86.
# Then changes on HFS+, where a maker of empty volumes is found (MKHFS, a Python program).
MKHFS = $(abspath $(wildcard ../shared/tools/macos/mkhfs.py))
bench-vm: NEEDS += qemu-system-x86 ovmf systemd-boot-efi dosfstools mtools cpio python3
bench-vm: deps
	CALMDAWN_RING=outer CALMDAWN_VM=1 CALMDAWN_MKHFS=$(MKHFS) go test ./internal/boottest -run 'TestVirtualMachine|TestHFSPlus' -v -timeout 1h

# What the questions to a workshop of many machines take, on both engines.
bench-workshop: deps
	CALMDAWN_RING=middle go test -run '^$$' -bench Questions -benchtime 5x -timeout 60m ./internal/workshop

# The pictures in docs/screenshots, from the demo data.
pictures:
	./docs/screenshots/take
