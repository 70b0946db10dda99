.PHONY: help setup install demo demo-reset console types test lint faults fuzz bench states
.DEFAULT_GOAL := help
BIN := .venv/bin

help: ## Show what can be made.
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed 's/:.*## /\t/' | expand -t 14

setup: ## Install what the demo needs.
	@tools/setup demo

install: ## Put Chronarch in place on this computer for a real shop (root).
	@tools/install

demo: setup ## Open the demo shop; Ctrl-C closes it.
	@exec $(BIN)/chronarch demo run

demo-reset: setup ## Throw the demo's data away.
	@$(BIN)/chronarch demo reset

console: setup ## Build the console's pages.

test: ## Run all tests.
	@tools/setup develop
	@$(BIN)/python -m tests

lint: ## Check style, types and imports, of Python and of the console.
	@tools/setup develop
	$(BIN)/ruff check src tests bench
	$(BIN)/ruff format --check -q src tests bench
	$(BIN)/mypy
	$(BIN)/lint-imports
	tools/check-console

types: ## Make the console's API types anew from the service's OpenAPI document.
	@tools/setup develop
	tools/make-types

states: ## Draw docs/states.md from the tables.
	$(BIN)/python -m chronarch.core.control.states_page > docs/states.md

faults: ## Try the whole faults table, a quarter of an hour, and write docs/reliability.md.
	@tools/setup develop
	$(BIN)/python -m tests.faults --write

fuzz: ## Try the whole API with made-up requests, five minutes.
	@tools/setup develop
	$(BIN)/python -m bench.fuzz_api

bench: ## Measure: each figure as a ratio to a limit taken in the same run.
	@tools/setup develop
	$(BIN)/python -m bench.feeding
	$(BIN)/python -m bench.cameras
	$(BIN)/python -m bench.films
	$(BIN)/python -m bench.heat
	$(BIN)/python -m bench.reading
	$(BIN)/python -m bench.planning
	$(BIN)/python -m bench.back_test
	$(BIN)/python -m bench.change_log
	$(BIN)/python -m bench.reads
