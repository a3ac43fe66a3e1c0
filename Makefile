# The two commands of the README: `make test` and `make demo`. Each makes its own fresh .venv.
PYTHON ?= python3
PIP_FLAGS ?= --quiet --disable-pip-version-check

.PHONY: test demo bench lint venv

venv:
	rm -rf .venv
	$(PYTHON) -m venv .venv
	.venv/bin/python -m pip install $(PIP_FLAGS) -e '.[dev]'

test: venv
	.venv/bin/python -m pytest -n auto

demo: venv
	rm -rf demo-output
	.venv/bin/jetruler demo demo-output

# These two use the .venv that `make test` or `make demo` left behind, or make one.
bench: | .venv
	.venv/bin/python -m benchmarks

lint: | .venv
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports

.venv:
	$(MAKE) venv
