PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
RUN := $(VENV)/.run-$(shell sha256sum requirements.lock 2>/dev/null | cut -c1-16)
DEV := $(VENV)/.dev-$(shell sha256sum requirements-dev.lock 2>/dev/null | cut -c1-16)

.PHONY: demo serve test test-all coverage check fast mutants bench bodies pictures screenshots lock clean

demo: $(RUN)
	$(BIN)/python -m dachi demo

serve: $(RUN)
	$(BIN)/python -m dachi serve

test: $(DEV) check
	tools/need-chromium
	$(BIN)/python -m tests

# What takes its time: kills, crawls of the shipped demo, Monte Carlo, many photographs, axe on
# every page. Nothing that `make test` runs.
test-all: $(DEV)
	tools/need-chromium
	$(BIN)/python -m tests --slow

# How much of each layer the tests without browsers run; apart from the tests, which it slows.
coverage: $(DEV)
	$(BIN)/python -m tests --coverage tests.core tests.store tests.studio tests.web tests.drawing tests.interchange tests.photos

check: $(DEV)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo
	$(BIN)/djlint --quiet --lint dachi/web/templates
	$(BIN)/oxlint --quiet --deny-warnings dachi/web/static

# Everything of `make test` but browsers.
fast: $(DEV)
	$(BIN)/python -m tests tests.core tests.store tests.studio tests.web tests.drawing tests.interchange tests.photos

mutants: $(DEV)
	$(BIN)/python -m tools.mutants

bench: $(DEV)
	$(BIN)/python -m bench

# Readings on bodies this program did not make; installs the body model first.
bodies: $(DEV)
	tools/need-bodies
	$(BIN)/python -m bench bodies

# A hundred photographs of those bodies with the truth beside each, and what the program makes of them.
pictures: $(DEV)
	tools/need-pictures
	DRJIT_LIBLLVM_PATH=$$(ls /usr/lib/*/libLLVM.so.* | tail -1) $(BIN)/python -m bench.bodies.pictures var/pictures 100
	$(BIN)/python -m bench cards proposals recognised

screenshots: $(DEV)
	tools/need-chromium
	$(BIN)/python -m tools.screenshots

lock: $(DEV)
	$(BIN)/pip install --quiet uv
	$(BIN)/uv pip compile --quiet --no-emit-index-url --no-header --generate-hashes --python-version 3.11 pyproject.toml -o requirements.lock
	$(BIN)/uv pip compile --quiet --no-emit-index-url --no-header --generate-hashes --python-version 3.11 --extra dev -c requirements.lock pyproject.toml -o requirements-dev.lock

clean:
	rm -rf $(VENV) var

$(RUN): requirements.lock
	PYTHON="$(PYTHON)" tools/make-venv $(VENV) requirements.lock
	touch $@

$(DEV): requirements-dev.lock
	PYTHON="$(PYTHON)" tools/make-venv $(VENV) requirements-dev.lock
	touch $@
