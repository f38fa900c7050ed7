# "make" alone lists what there is.
.DEFAULT_GOAL := help
SHELL := /bin/sh
PORT ?= 8470
NET ?= 127.31.0.0/16

SERVER_PACKAGES = postgresql=/usr/lib/postgresql/*/bin/postgres
VM_PACKAGES = libvirt-daemon=/usr/sbin/libvirtd libvirt-daemon-driver-qemu=/usr/lib/x86_64-linux-gnu/libvirt/connection-driver/libvirt_driver_qemu.so libvirt-clients=/usr/bin/virsh qemu-system-x86=/usr/bin/qemu-system-x86_64 qemu-utils=/usr/bin/qemu-img
VM_NETWORK_PACKAGES = dnsmasq-base=/usr/sbin/dnsmasq iptables=/usr/sbin/iptables libvirt-daemon-config-nwfilter=/etc/libvirt/nwfilter/clean-traffic.xml iproute2=/usr/sbin/ip
VM_IMAGE_PACKAGES = mmdebstrap=/usr/bin/mmdebstrap grub-common=/usr/bin/grub-mkimage grub-pc-bin=/usr/lib/grub/i386-pc/boot.img qemu-utils=/usr/bin/qemu-img fdisk=/usr/sbin/sfdisk e2fsprogs=/usr/sbin/mkfs.ext4 xfsprogs=/usr/sbin/mkfs.xfs
TEST_PACKAGES = $(SERVER_PACKAGES) systemd=/bin/systemctl openssh-client=/usr/bin/ssh openssh-server=/usr/sbin/sshd chromium=/usr/bin/chromium procps=/usr/bin/pgrep passwd=/usr/sbin/useradd sudo=/usr/bin/sudo rsync=/usr/bin/rsync xfsprogs=/usr/sbin/mkfs.xfs fdisk=/usr/sbin/sfdisk e2fsprogs=/usr/sbin/mkfs.ext4 curl=/usr/bin/curl zsh=/usr/bin/zsh fish=/usr/bin/fish $(VM_PACKAGES)
SHOT_PACKAGES = chromium=/usr/bin/chromium xvfb=/usr/bin/xvfb-run xauth=/usr/bin/xauth xterm=/usr/bin/xterm imagemagick=/usr/bin/import fonts-dejavu-core=/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf

CONSOLE_SOURCES = $(shell find console/src console/public -type f) console/size.mjs console/index.html console/vite.config.ts console/tsconfig.json

.PHONY: help demo demo-vm demo-reset build agent-release test check race cover matrix windows vm-driver vm-images vm-smoke vm-test model lint bench generate fuzz screenshots format clean

help: ## show this list
	@grep -E '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

demo: build ## start everything with demo data (PORT=8470 NET=127.31.0.0/16 move it)
	@scripts/packages.sh '$(SERVER_PACKAGES)' openssh-client=/usr/bin/ssh
	@bin/plumlatchd demo -port $(PORT) -net $(NET)

demo-vm: build ## the demo with two real machines besides, on a libvirtd of its own (docs/libvirt.md)
	@scripts/packages.sh $(foreach p,$(SERVER_PACKAGES) $(VM_PACKAGES),'$(p)') openssh-client=/usr/bin/ssh
	@[ -e .vm/debian-12.qcow2 ] || { echo 'There is no image yet: run "make vm-images" first (as root, some minutes).'; exit 1; }
	@bin/plumlatchd demo -port $(PORT) -net $(NET) -vm .vm/debian-12.qcow2

demo-reset: ## wipe the demo's data and its people's keys
	@if [ -e .demo/lock ] && ! flock -n .demo/lock true; then echo "The demo is running; stop it first (Ctrl-C)."; exit 1; fi
	rm -rf .demo demo-holders

build: console/dist/index.html console/dist/core.wasm.gz ## build the programs into bin/
	go build -buildvcs=auto -o bin/ ./cmd/...
	CGO_ENABLED=0 go build -buildvcs=auto -trimpath -ldflags='-s -w' -o bin/ ./cmd/plumlatch-agent

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && npm run -s build
	@touch $@

CORE_SOURCES = $(shell find core shell stream cmd/plumlatch-wasm -name '*.go' ! -name '*_test.go') go.mod go.sum

# The core for the browser, with the loader that belongs to this version of Go.
# The console's build empties dist, so these come after it.
console/dist/core.wasm.gz: console/dist/index.html $(CORE_SOURCES)
	cp "$$(go env GOROOT)/lib/wasm/wasm_exec.js" console/dist/wasm_exec.js
	GOOS=js GOARCH=wasm go build -trimpath -ldflags='-s -w' -o console/dist/core.wasm ./cmd/plumlatch-wasm
	gzip -9 -n -f console/dist/core.wasm
	@touch $@

agent-release: ## build the agent with VERSION=N and sign it with the key of releases KEY=FILE, for upgrades
	@[ -n "$(VERSION)" ] && [ -n "$(KEY)" ] || { echo 'make agent-release VERSION=2 KEY=FILE'; exit 2; }
	CGO_ENABLED=0 go build -buildvcs=auto -trimpath -ldflags='-s -w -X plumlatch/agent.Version=$(VERSION)' -o bin/ ./cmd/plumlatch-agent
	go run ./tools/agentrelease -program bin/plumlatch-agent -version $(VERSION) -key $(KEY)

test: build ## run every test; installs what is missing for them
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES),'$(p)')
	@rm -f bin/harness.txt
	PLUMLATCH_HARNESS_REPORT=$(CURDIR)/bin/harness.txt go test -count=1 -parallel 6 -timeout 30m ./...
	@if [ -e bin/harness.txt ]; then cat bin/harness.txt; fi

# The tests of the whole in which most goes on at once; what each kind of work does by itself is raced in
# its own package.
RACED = TestFirstDoor|TestTwoReplicas|TestGuardExamples|TestOracle|TestStreamsEndWithTheirToken|TestCostlyRequestsAreBounded|TestSigninsAtOnce|TestTokensEndTogether

check: build ## what is quick: lint, and the tests that start no service
	@$(MAKE) -s lint
	go test -short -parallel 6 ./core/... ./client/... ./cmd/... ./service/api ./service/store ./service/kinds ./service/door ./service ./tools/... ./console

# The core starts no goroutine, which TestNothingAtOnce holds, and its tests make many RSA keys.
race: build ## the tests of each package, and some of the whole, with the race detector
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES),'$(p)') gcc=/usr/bin/cc libc6-dev=/usr/include/stdio.h
	CGO_ENABLED=1 go test -race -parallel 4 -timeout 18m $$(go list ./... | grep -v -e '/e2e$$' -e '/core')
	CGO_ENABLED=1 PLUMLATCH_RACE=1 go test -race -parallel 4 -timeout 18m -count=1 ./e2e -run '^($(RACED))$$' -oracle 10

cover: build ## how much of the code the tests go through, and what none reaches; twice as long as make test
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES),'$(p)')
	@scripts/cover.sh

matrix: build ## every case of the harness and of each kind's tests, and 2,000 sequences of the oracle
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES),'$(p)')
	PLUMLATCH_EVERY_HALT=1 go test ./service/... -count=1 -timeout 60m
	go test ./e2e -run 'TestMatrix|TestWithin|TestOracle' -matrix -v -count=1 -timeout 240m

windows: build ## the client for Windows, run under Wine
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES),'$(p)') wine64=/usr/lib/wine/wine64 gcc-mingw-w64-x86-64-posix=/usr/bin/x86_64-w64-mingw32-gcc
	PLUMLATCH_WINE=1 go test ./e2e -run TestWindowsClient -count=1 -v

vm-driver: ## the driver for libvirt against a libvirtd of its own, with emulated machines that have no system
	@scripts/packages.sh $(foreach p,$(VM_PACKAGES),'$(p)')
	go test -count=1 -timeout 10m ./service/cloud/libvirt

vm-images: ## the disks of real machines, made from Debian's packages alone into .vm/, once; as root
	@scripts/packages.sh $(foreach p,$(VM_IMAGE_PACKAGES),'$(p)')
	go run ./tools/vmimage -dir .vm

vm-smoke: build ## one real machine's story: launch, rotate, lose the key, restore it by its disk; some minutes
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES) $(VM_IMAGE_PACKAGES),'$(p)')
	go run ./tools/vmimage -dir .vm debian-12
	PLUMLATCH_VM=$(CURDIR)/.vm go test -count=1 -timeout 15m ./e2e -run '^TestVMSmoke$$'

vm-test: build ## every story on real machines, with the images that make vm-images makes; an hour where the processor is emulated
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES) $(VM_IMAGE_PACKAGES) $(VM_NETWORK_PACKAGES),'$(p)')
	go run ./tools/vmimage -dir .vm
	PLUMLATCH_VM=$(CURDIR)/.vm go test -count=1 -timeout 15m -v ./service/cloud/libvirt -run '^TestNetworked$$'
	rm -f .vm/times
	PLUMLATCH_VM=$(CURDIR)/.vm PLUMLATCH_VM_TIMES=$(CURDIR)/.vm/times go test -count=1 -timeout 150m -v ./e2e -run '^TestVM'
	go run ./tools/vmtable .vm/times docs/libvirt.md

model: ## check the model of the rotation with spin: nobody locked out, always an end
	@scripts/packages.sh spin=/usr/bin/spin gcc=/usr/bin/cc libc6-dev=/usr/include/stdio.h
	@scripts/model.sh

lint: build ## gofmt, vet, staticcheck, prettier, eslint, tsc
	@out=$$(gofmt -l cmd client core reach console/*.go e2e service standin tools); if [ -n "$$out" ]; then echo "gofmt these:"; echo "$$out"; exit 1; fi
	go vet ./...
	GOOS=js GOARCH=wasm go vet ./cmd/plumlatch-wasm
	go tool staticcheck ./...
	cd console && npm run -s lint && npm run -s fresh

bench: build ## speed, as ratios measured in one run; writes docs/performance.md
	@scripts/packages.sh $(foreach p,$(TEST_PACKAGES),'$(p)')
	@scripts/bench.sh

generate: console/node_modules/.package-lock.json ## make what is made of the API's table: docs/api.md, docs/openapi.json, the console's types
	go run ./tools/apidoc
	cd console && npm run -s generate

FUZZTIME ?= 60s

fuzz: ## every fuzz target for a minute (FUZZTIME=10s); keeps what it finds in testdata/fuzz
	@scripts/fuzz.sh $(FUZZTIME)

screenshots: ## take docs/screenshots anew from the running demo
	@scripts/packages.sh $(foreach p,$(SHOT_PACKAGES),'$(p)')
	go run ./tools/screenshots

format: ## format all sources
	gofmt -w cmd client core reach console/*.go e2e service standin tools
	cd console && npm run -s format

clean: ## remove what was built
	rm -rf bin console/node_modules
	find console/dist -mindepth 1 ! -name .gitkeep -delete
