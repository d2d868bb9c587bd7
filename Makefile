# Two commands do everything on a machine with nothing prepared: make demo, make test.

SHELL := /bin/bash -o pipefail
DEMO_FLAGS ?=
ATTACK_FLAGS ?=
CONSOLE_SOURCES := $(shell find console -path console/node_modules -prune -o -path console/dist -prune -o -path console/test -prune -o -type f -print)
GO_SOURCES := $(shell find . -name node_modules -prune -o \( -name '*.go' -o -name '*.sql' -o -name '*.html' -o -name '*.css' -o -name 'policy.yaml' -o -name '*.py' \) -print)

.PHONY: demo test soak bench attack generate build lint packages browser frameworks languages databases screenshots clean

demo: packages build
	bin/gerastic demo $(DEMO_FLAGS)

# The applications of test/frameworks want the machine for themselves, and so do the others.
test: packages browser frameworks languages databases build lint
	cd console && npm run --silent test
	cd client && go test -race ./...
	go test -race -timeout 10m $$(go list ./... | grep -v /test/frameworks)
	go test -race -timeout 4m ./test/frameworks

# The history of purges, checked for longer than in make test.
SOAK ?= 10m
soak: packages
	GERASTIC_SOAK=$(SOAK) go test -race -count=1 -timeout 0 -v ./test -run TestHistory

# Speed, as shares of a bare handler's in the same run, written to bench.json; with
# AGAINST=REVISION the two revisions' binaries in turns; BENCH chooses among them by name. See docs/performance.md.
AGAINST ?=
BENCH ?=
BENCH_FLAGS ?=
bench: console/dist/index.html
	go run ./test/bench/measure $(if $(AGAINST),-against $(AGAINST)) $(if $(BENCH),-bench '$(BENCH)') $(BENCH_FLAGS)

# A node under attack by visitors, origins and strangers, on loopback; see docs/limits.md.
attack: packages build
	go run ./test/attack $(ATTACK_FLAGS)

build: bin/gerastic

bin/gerastic: $(GO_SOURCES) go.mod go.sum console/dist/index.html
	go build -o $@ ./cmd/gerastic

console/node_modules/.installed: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

console/dist/index.html: console/node_modules/.installed $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	touch $@

# Remakes what is made from the code: the API's description, the commands, the console's types.
generate: console/node_modules/.installed
	go run ./cmd/reference docs
	cd console && npm run --silent types

# SQLite's driver is a large program of its own, that tools need not look into.
lint: export GOFLAGS = -tags=nosqlite
lint: console/node_modules/.installed
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "run gofmt -w on:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	cd client && go vet ./...
	GOOS=darwin go build ./... && GOOS=windows go build ./...
	go fix -stringsbuilder=false -diff ./... gerastic.example/client/...
	go tool staticcheck ./... gerastic.example/client/...
	go tool unparam ./... gerastic.example/client/...
	@dead="$$(go tool deadcode -filter '^gerastic/' ./...; go tool deadcode -test -filter '^gerastic' ./... gerastic.example/client/...)"; test -z "$$dead" || { echo "$$dead"; exit 1; }
	go test ./test/house
	cd console && npm run --silent lint
	console/node_modules/.bin/tsc --noEmit --strict --target ES2022 --lib ES2022,DOM,DOM.Iterable --module ESNext --moduleResolution bundler clients/js/test/types.ts

# Debian's packages, asked for only where they are missing.
packages:
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || ./scripts/install postgresql
	@command -v npm >/dev/null || ./scripts/install npm

browser:
	@command -v chromium >/dev/null || ./scripts/install chromium

# The languages whose kits the tests hold to the same.
languages:
	@command -v ruby >/dev/null || ./scripts/install ruby
	@php -m 2>/dev/null | grep -qx curl || ./scripts/install php-cli php-curl

# The other databases that changes are read from, which the tests start, and how the kits reach them.
databases:
	@command -v mariadbd >/dev/null || ./scripts/install mariadb-server
	@/usr/bin/python3 -c 'import pymysql, psycopg2, jinja2' 2>/dev/null || ./scripts/install python3-pymysql python3-psycopg2 python3-jinja2
	@php -r 'exit(array_diff(["sqlite", "mysql", "pgsql"], PDO::getAvailableDrivers()) ? 1 : 0);' || ./scripts/install php-sqlite3 php-mysql php-pgsql

# The web frameworks whose applications the tests put behind a node.
frameworks: test/frameworks/node_modules/.installed
	@/usr/bin/python3 -c 'import flask, flask_wtf' 2>/dev/null && command -v gunicorn >/dev/null || ./scripts/install gunicorn python3-flask python3-flaskext.wtf
	@ruby -e 'require "sinatra/base"; require "rack-flash"' 2>/dev/null && command -v puma >/dev/null || ./scripts/install puma ruby-sinatra ruby-rack-flash3

test/frameworks/node_modules/.installed: test/frameworks/package.json test/frameworks/package-lock.json
	cd test/frameworks && npm ci --no-audit --no-fund --loglevel=error
	touch $@

# Pictures for the documentation, from a demo that runs already.
screenshots:
	go run ./test/screenshots http://127.0.0.1:8490 $$(cat gerastic-data/admin.token) docs/screenshots

clean:
	rm -rf bin console/node_modules test/frameworks/node_modules
	find console/dist -mindepth 1 ! -name .gitkeep -delete
