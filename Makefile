# The commands that people use. `make` lists them.
python := .venv/bin/python

.PHONY: help
help:
	@grep -E '^[a-z]+:.*##' Makefile | sed 's/:.*##/:/' | column -t -s:

.venv/bin/python:
	python3 -m venv .venv && .venv/bin/pip install --quiet -e '.[dev]'

.PHONY: test
test: .venv/bin/python  ## all tests but the long ones
	$(python) -m pytest

.PHONY: long
long: .venv/bin/python  ## the tests that are worth their minutes before a release alone
	$(python) -m pytest -m long

.PHONY: quick
quick: .venv/bin/python  ## the tests that are not slow, under a minute
	$(python) -m pytest -m "not slow and not long"

.PHONY: check
check: .venv/bin/python  ## lint, format, types, import contract
	$(python) -m ruff check .
	$(python) -m ruff format --check .
	$(python) -m mypy
	.venv/bin/lint-imports

.PHONY: docs
docs: .venv/bin/python  ## write what is generated: signatures, reference, manual page
	$(python) tools/make_stub.py
	$(python) tools/make_reference.py
	$(python) tools/make_man.py

.PHONY: mutants
mutants: .venv/bin/python  ## change the code at random in a copy, and count what the tests miss
	$(python) tools/mutate.py --count 50
