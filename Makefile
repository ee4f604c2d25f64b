# make demo · make test · make lint · make bench · make shots
SHELL := /bin/sh
GO ?= go
DATA ?= .data
LISTEN ?= 127.0.0.1:8420
NET ?= 127.40
export GOFLAGS ?= -buildvcs=false

.PHONY: demo demo-reset build test anyday ordinary lint format bench shots soak steady
build:
	@$(GO) build -o bin/duskyharbor ./cmd/duskyharbor

demo:
	@scripts/need.sh initdb:postgresql
	@$(GO) build -o bin/duskyharbor ./cmd/duskyharbor
	@exec bin/duskyharbor demo --data "$(DATA)" --listen "$(LISTEN)" --net "$(NET)"

demo-reset:
	@$(GO) run ./cmd/duskyharbor demo-reset --data "$(DATA)"

test:
	@scripts/need.sh initdb:postgresql chromium:chromium-headless-shell ffprobe:ffmpeg gstreamer:gir1.2-gst-rtsp-server-1.0
	@$(GO) run ./internal/testbed/withpg scripts/test.sh

# What touches a calendar, on other days, in other zones.
anyday:
	@scripts/anyday.sh

# What depends on who runs it, once more as a user without rights.
ordinary:
	@scripts/need.sh initdb:postgresql chromium:chromium-headless-shell ffprobe:ffmpeg setpriv:util-linux
	@scripts/ordinary.sh

lint:
	@out=$$(gofmt -l cmd internal); if [ -n "$$out" ]; then echo "gofmt would change:"; echo "$$out"; exit 1; fi
	@$(GO) vet ./...
	@$(GO) tool staticcheck ./...
	@scripts/need.sh node:nodejs npm:npm
	@scripts/format/format.sh --check

format:
	@gofmt -w cmd internal
	@scripts/need.sh node:nodejs npm:npm
	@scripts/format/format.sh --write

bench:
	@scripts/need.sh initdb:postgresql
	@GOGC=400 $(GO) run ./internal/testbed/withpg $(GO) test -timeout 30m -run '^$$' -bench . -benchtime 1s ./... | grep -E '^(Benchmark|pkg:)'

shots:
	@scripts/need.sh initdb:postgresql chromium:chromium-headless-shell ffprobe:ffmpeg
	@SHOTS="$(CURDIR)/docs/screenshots" $(GO) run ./internal/testbed/withpg $(GO) test -count 1 -timeout 15m -run TestShot ./internal/web

soak:
	@scripts/need.sh initdb:postgresql chromium:chromium-headless-shell ffprobe:ffmpeg gstreamer:gir1.2-gst-rtsp-server-1.0
	@COMPARE=1 $(GO) test -count 1 -v -run TestFiguresAgreeWithFFprobe ./internal/device/rtsp
	@for f in ./internal/core/clock:FuzzParseZone ./internal/core/clock:FuzzOrder ./internal/core/netplan:FuzzParseIPConfig ./internal/core/netplan:FuzzParsePorts ./internal/core/netplan:FuzzParseDNS ./internal/device/page:FuzzRead ./internal/core/expected:FuzzParseCSV ./internal/core/filter:FuzzParse ./internal/core/stream:FuzzParseSPS ./internal/core/stream:FuzzParseHEVC ./internal/core/stream:FuzzParsePaths ./internal/core/picture:FuzzParseCorners ./internal/device/discovery:FuzzParseMatch ./internal/device/onvif:FuzzParse ./internal/device/onvif:FuzzParseDuration ./internal/device/onvif:FuzzParseMetadata ./internal/device/onvif:FuzzPlainXML ./internal/core/rule:FuzzParsePoints ./internal/core/scene:FuzzUnpack ./internal/core/scene:FuzzUnpackCells ./internal/core/recording:FuzzParseDay ./internal/core/recording:FuzzParseForm ./internal/core/channel:FuzzParseTable ./internal/device/rtsp:FuzzParseSDP ./internal/device/rtsp:FuzzMeter ./internal/device/rtsp:FuzzAnswer ./internal/live:FuzzFit ./internal/device/picture:FuzzDecode ./internal/workbook:FuzzCheck; do \
	  $(GO) test -run '^$$' -fuzz "$${f##*:}$$" -fuzztime 60s "$${f%%:*}" || exit 1; done
	@KILL_ROUNDS=100 $(GO) run ./internal/testbed/withpg $(GO) test -count 1 -v -run "TestKilledAtEveryStepItSettles|TestARestartBatchKilledAtItsSteps|TestRotationKilledAtItsSteps|TestRotationWhereADeviceDies" -parallel 3 -timeout 150m ./internal/engine
	@KILL_ROUNDS=5 $(GO) run ./internal/testbed/withpg $(GO) test -count 1 -v -run TestAServerStaysSmallBesideBadDevices -timeout 30m ./internal/engine
	@BULK_CAMERAS=400 $(GO) run ./internal/testbed/withpg $(GO) test -count 1 -v -run TestBulkClocksAndPasswordsSurviveTwoKills -timeout 30m ./internal/engine

# N runs of the tests, three of them beside a busy core; what failed is printed.
N ?= 10
steady:
	@scripts/steady.sh $(N)
