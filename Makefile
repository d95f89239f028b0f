# demo: the service with Saltmere's data.   test: everything.   Both install what they need and say so.
CONFIG ?= Release
DEMO ?= .demo
export DOTNET_CLI_TELEMETRY_OPTOUT = 1
export DOTNET_NOLOGO = 1

MACHINE := $(shell uname -m)
RID ?= linux-$(if $(filter aarch64 arm64,$(MACHINE)),arm64,x64)

.PHONY: build client console demo test bench lint format types clean

build: console
	dotnet build -c $(CONFIG) -v quiet --nologo

# The client as native code, in dist/client.
client:
	@command -v clang > /dev/null || command -v gcc > /dev/null || { echo "installing a C compiler to link with (apt-get, clang)"; \
	    apt-get update -qq && apt-get install -y -qq --no-install-recommends clang zlib1g-dev > /dev/null; }
	dotnet publish src/IronKeep.Cli -c Release -r $(RID) -p:PublishAot=true -p:DebugType=none -p:CopyOutputSymbolsToPublishDirectory=false \
	    -p:NuGetLockFilePath=obj/publish.lock.json -p:RestoreLockedMode=false -o dist/client -v quiet --nologo

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
	rm -rf $(DEMO) console/dist dist
	find . -name bin -o -name obj | grep -v node_modules | xargs rm -rf
