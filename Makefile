# Two commands do everything: make demo, make test.

LISTEN ?= 127.0.0.1:8420
WEB_SOURCES := $(shell find web/src web/public web/index.html web/vite.config.ts internal/server/openapi.yaml -type f)
GO_SOURCES := $(shell find cmd core internal demo web -name '*.go' -not -path '*/node_modules/*') go.mod go.sum demo/grayshoal.yaml internal/server/openapi.yaml $(wildcard internal/store/migrations/*.sql)
NPM := npm --prefix web --silent

.PHONY: demo test build dev bench lint format generate screenshots browser router soak clean

demo: build ## start the server with the demo estate; what is edited there is kept in data/
	./bin/bivium demo --listen $(LISTEN)

build: bin/bivium

bin/bivium: web/dist/index.html $(GO_SOURCES)
	go build -trimpath -o bin/bivium ./cmd/bivium

# What the front end is built with is installed alone; linters and tests ask for
# the rest. Either stamp is newer than the lock file that it was made from.
web/node_modules/.for-build: web/package.json web/package-lock.json
	$(NPM) ci --omit=dev --no-audit --no-fund --prefer-offline
	@touch $@

web/node_modules/.for-test: web/package.json web/package-lock.json
	$(NPM) ci --no-audit --no-fund --prefer-offline
	@touch $@ web/node_modules/.for-build

web/dist/index.html: web/node_modules/.for-build $(WEB_SOURCES)
	$(NPM) run build
	@touch $@

dev: web/node_modules/.for-test ## the server, and the front end rebuilt as it is edited, on port 8421
	@trap 'kill 0' EXIT; go run ./cmd/bivium demo --listen $(LISTEN) & BIVIUM_LISTEN=$(LISTEN) $(NPM) run dev

test: web/node_modules/.for-test build lint browser router mail logs ## everything: linters, Go, front end, browser
	go test -timeout 30m ./...
	$(NPM) test

lint: web/node_modules/.for-test
	@test -z "$$(gofmt -l cmd core internal demo web/*.go e2e)" || { gofmt -l cmd core internal demo web/*.go e2e; echo 'run make format'; exit 1; }
	go vet ./...
	go run ./internal/tools/words core internal cmd web/src
	go tool staticcheck ./...
	$(NPM) run lint
	$(NPM) run fresh

format: web/node_modules/.for-test
	gofmt -w cmd core internal demo web/*.go e2e
	$(NPM) run format

generate: web/node_modules/.for-test ## the browser's client from the server's description
	$(NPM) run generate

browser: ## Chromium from Debian, if it is missing
	@test -x /usr/bin/chromium || { apt-get update -q && apt-get install -q -y --no-install-recommends chromium; }

# The service that comes with it is not wanted: a test runs it when it needs it.
router: ## a BGP router from Debian, if it is missing
	@test -x /usr/sbin/bird || { apt-get update -q && apt-get install -q -y --no-install-recommends bird2 && { systemctl disable --now bird 2>/dev/null || true; }; }

mail: ## a mail server from Debian, if it is missing
	@test -x /usr/sbin/smtpd || { apt-get update -q && apt-get install -q -y --no-install-recommends opensmtpd && { systemctl disable --now opensmtpd 2>/dev/null || true; }; }

logs: ## a syslog server from Debian, if it is missing
	@test -x /usr/sbin/rsyslogd || { apt-get update -q && apt-get install -q -y --no-install-recommends rsyslog && { systemctl disable --now rsyslog syslog.socket 2>/dev/null || true; }; }

bench:
	go test -run '^$$' -bench . -benchmem ./core/... ./internal/app/... ./internal/server

screenshots: build browser ## make docs/screenshots anew, from the demo estate
	go test ./e2e -run TestScreenshots -count=1 -screenshots $(CURDIR)/docs/screenshots

soak: build ## kill the server 500 times, 200 times while it writes; write 200 drawn estates; plan 3000 drawn edits
	go test ./e2e -run TestNothingAcknowledgedIsLost -count=1 -timeout 60m -rounds 500
	go test ./internal/app/applying -run TestKilledWhileApplying -count=1 -timeout 60m -kills 200
	go test ./internal/app/applying -run TestDrawnEstatesAreWritten -count=1 -timeout 60m -written 200
	go test ./core/native/plan ./internal/standin/dataplane -count=1 -timeout 60m -rapid.checks 3000

clean:
	rm -rf bin web/node_modules
	find web/dist -mindepth 1 -not -name .gitkeep -delete
