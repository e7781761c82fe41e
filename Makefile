PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
STAMP := $(VENV)/.installed-$(shell sha256sum requirements.lock 2>/dev/null | cut -c1-16)

.PHONY: demo serve test bench check screenshots lock clean

demo: $(STAMP)
	$(BIN)/python -m dachi demo

serve: $(STAMP)
	$(BIN)/python -m dachi serve

test: $(STAMP) check
	tools/need-chromium
	$(BIN)/python -m tests

check: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

bench: $(STAMP)
	$(BIN)/python -m bench

screenshots: $(STAMP)
	tools/need-chromium
	$(BIN)/python -m tools.screenshots

lock: $(STAMP)
	$(BIN)/pip install --quiet uv
	$(BIN)/uv pip compile --quiet --no-emit-index-url --no-header --extra dev --generate-hashes --python-version 3.11 pyproject.toml -o requirements.lock

clean:
	rm -rf $(VENV) var

$(STAMP): requirements.lock
	PYTHON="$(PYTHON)" tools/make-venv $(VENV)
	touch $@
