# Two commands matter: `make demo` and `make test`. Everything else serves them.
.PHONY: demo test check build web bench shots types system dev crates

BIN := target/release/ulmix

demo: build
	$(BIN) demo

# The web app is built beside the crates; the binary holds it. Where the web app comes later than
# the crate that embeds it, the first build fails there and the second one makes up for it.
build:
	$(MAKE) --no-print-directory -j2 web crates
	cargo build --release -p ulmix

crates:
	-cargo build --release --keep-going -p ulmix

# The server and the web app as they are worked on, at http://localhost:5173.
dev: web
	scripts/dev.sh

# The web app, from the lock file; built again only when something of it changed.
web: web/dist/.built
web/dist/.built: web/node_modules/.installed $(shell find web/src web/public docs/guide docs/screenshots -type f) web/index.html web/vite.config.ts web/tsconfig.json
	cd web && npm run build --silent
	touch $@
web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && npm ci --omit=dev --no-audit --no-fund --silent
	touch $@
# With what checks and tests need beside that.
web/node_modules/.tools: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --silent
	touch $@ web/node_modules/.installed

# What the browser tests need, from Debian's packages.
system:
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null || \
	  { apt-get update -qq && apt-get install -y -qq --no-install-recommends chromium chromium-driver; }

# Builds the binary as well: the browser tests run it.
test: system web/node_modules/.tools web
	cargo test --release --workspace

check: web/node_modules/.tools
	cargo fmt --all --check
	cd web && npm run check --silent

bench: build
	cargo bench -p ulmix

# The web app's types follow the server's; the web app as it was built last will do.
types: web/node_modules/.tools
	cargo build --release -p ulmix
	$(BIN) openapi > docs/openapi.json
	cd web && npm run types --silent

# Renews docs/screenshots from the demo data.
shots: system web/node_modules/.tools build
	cargo run --release -p ulmix-e2e --example shots -- docs/screenshots
