# The two commands of the README: `make test` and `make demo`. Each sets up .venv with what it needs;
# .venv is made anew when pyproject.toml has changed.
PYTHON ?= python3
# uv takes a third of pip's time; pip is for machines that uv is not made for.
PIP = install -qq --disable-pip-version-check --no-compile
VENV = $(PYTHON) -m venv --without-pip .venv && \
	{ $(PYTHON) -m pip --python .venv/bin/python $(PIP) uv || true; }
INSTALL = sh -c '.venv/bin/uv pip install -q --python .venv/bin/python "$$@" || \
	{ .venv/bin/python -m ensurepip && .venv/bin/python -m pip $(PIP) "$$@"; }' install
# Installers compile on one core, or not; this does so on all, whatever the environment says of
# bytecode: but not what no test imports.
UNUSED = /(tests|pip|setuptools|pkg_resources|selenium|trio|fontTools|lexers)/
COMPILE = .venv/bin/python -m compileall -qq -j 0 -x '.venv/.*$(UNUSED)' .venv/lib src tests
PYTEST = .venv/bin/python -m pytest -n auto --dist loadgroup

# Each stamp says what .venv holds: the product; what tests it; what checks its code;
# what makes its site.
PRODUCT = .venv/product
TESTS = .venv/tests
CHECKS = .venv/checks
SITE = .venv/site

.PHONY: test soak worlds demo bench lint mutants fuzz release truth docs screenshots

# Asserts that say nothing but where they stand are there in half the time; whatever fails is run
# again with those that say what they found.
test: $(TESTS)
	$(PYTEST) --assert=plain || { $(PYTEST) --last-failed; false; }

# The large sizes, and many more examples of every property.
soak: $(TESTS)
	$(PYTEST) -m "soak or hypothesis" --hypothesis-profile soak

# Made-up boards with a known truth through every command; WORLDS says how many.
WORLDS ?= 3000
worlds: $(TESTS)
	.venv/bin/python -m tests.worlds --many $(WORLDS)

demo: $(PRODUCT)
	rm -rf demo-output
	.venv/bin/jetruler demo -o demo-output

# A wheel and an sdist, checked, tried on every Python at hand; their digests. Uploads nothing.
release: $(CHECKS)
	.venv/bin/python -m tests.release

bench: $(TESTS)
	.venv/bin/python -m benchmarks

# The documentation as a site, in site/: it loads nothing from elsewhere, and opens from its folder.
docs: $(SITE)
	NO_MKDOCS_2_WARNING=1 .venv/bin/mkdocs build --strict --quiet

# How often verdicts are right, over many made-up cases: docs/truth.md.
truth: $(TESTS)
	.venv/bin/python -m benchmarks.truth

# Hostile input for so many seconds; what is found is named with the number that gives it again.
SECONDS ?= 60
fuzz: $(TESTS)
	.venv/bin/python -m fuzz --seconds $(SECONDS)

# Every picture of docs/screenshots, made anew from the demo's data.
screenshots: $(PRODUCT)
	.venv/bin/python docs/build_screenshots.py

lint: $(CHECKS)
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports

# Changes the code in a sample of places and counts which changes the tests notice.
mutants: $(CHECKS)
	.venv/bin/python -m tests.mutants

$(PRODUCT): pyproject.toml
	rm -rf .venv
	$(VENV)
	$(INSTALL) -e .
	$(COMPILE)
	touch $@

$(TESTS): pyproject.toml
	test $(PRODUCT) -nt pyproject.toml || { rm -rf .venv && $(VENV); }
	$(INSTALL) -e '.[test]'
	$(COMPILE)
	touch $(PRODUCT) $@

$(CHECKS): $(TESTS)
	$(INSTALL) -e '.[dev]'
	$(COMPILE)
	touch $@

$(SITE): $(TESTS)
	$(INSTALL) -e '.[docs]'
	$(COMPILE)
	touch $@
