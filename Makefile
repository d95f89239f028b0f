# demo: the service with Saltmere's data.   test: everything.   Both install what they need and say so.
CONFIG ?= Release
DEMO ?= .demo
export DOTNET_CLI_TELEMETRY_OPTOUT = 1
export DOTNET_NOLOGO = 1

.PHONY: build console demo test bench lint format types clean

build: console
	dotnet build -c $(CONFIG) -v quiet --nologo

console/node_modules: console/package-lock.json
	@echo "installing the console's packages (npm ci)"
	cd console && npm ci --silent --no-progress
	@touch console/node_modules

console: console/node_modules
	cd console && npm run --silent build > /dev/null

demo: console
	dotnet build -c $(CONFIG) -v quiet --nologo demo/IronKeep.Demo
	dotnet build -c $(CONFIG) -v quiet --nologo src/IronKeep.Cli
	dotnet demo/IronKeep.Demo/bin/$(CONFIG)/net10.0/ironkeep-demo.dll $(DEMO) demo/saltmere.yaml

test:
	@tests/run

bench: build
	@bench/run

types: build
	cd console && npm run --silent types

lint: console/node_modules
	tests/form
	dotnet format style --verify-no-changes --no-restore
	cd console && npm run --silent lint

format: console/node_modules
	dotnet tool restore > /dev/null
	dotnet csharpier format .
	cd console && npm run --silent format

clean:
	rm -rf $(DEMO) console/dist
	find . -name bin -o -name obj | grep -v node_modules | xargs rm -rf
