# demo: the service with Saltmere's data.   test: everything.   Both install what they need and say so.
CONFIG ?= Release
DEMO ?= .demo
export DOTNET_CLI_TELEMETRY_OPTOUT = 1
export DOTNET_NOLOGO = 1

MACHINE := $(shell uname -m)
RID ?= linux-$(if $(filter aarch64 arm64,$(MACHINE)),arm64,x64)

PREFIX ?= /usr/local
VERSION ?= $(shell sed -nE 's:.*<Version>(.*)</Version>.*:\1:p' Directory.Build.props)
PUBLISH = -c Release -p:RunAnalyzers=false -p:EnforceCodeStyleInBuild=false -r $(RID) -p:Version=$(VERSION) -p:NuGetLockFilePath=obj/publish.lock.json -p:RestoreLockedMode=false \
    -p:DebugType=none -p:CopyOutputSymbolsToPublishDirectory=false -v quiet --nologo

.PHONY: build client agent daemon package install install-agent console demo test bench lint format types clean

build: console
	dotnet build -c $(CONFIG) -v quiet --nologo

# The client as native code, in dist/client.
client:
	@command -v clang > /dev/null || command -v gcc > /dev/null || { echo "installing a C compiler to link with (apt-get, clang)"; \
	    apt-get update -qq && apt-get install -y -qq --no-install-recommends clang zlib1g-dev > /dev/null; }
	dotnet publish src/IronKeep.Cli -p:PublishAot=true $(PUBLISH) -o dist/client

# The agent as native code, in dist/agent, and once more for processors of the last ten years, which it goes over to where it may.
NEWER = x86-64-v3
agent:
	@command -v clang > /dev/null || command -v gcc > /dev/null || { echo "installing a C compiler to link with (apt-get, clang)"; \
	    apt-get update -qq && apt-get install -y -qq --no-install-recommends clang zlib1g-dev > /dev/null; }
	rm -rf dist/agent
	dotnet publish src/IronKeep.Agent -p:PublishAot=true $(PUBLISH) -o dist/agent
ifeq ($(RID),linux-x64)
	dotnet publish src/IronKeep.Agent -p:PublishAot=true -p:IlcInstructionSet=$(NEWER) $(PUBLISH) -o dist/agent/$(NEWER)
	@! cmp -s dist/agent/ironkeep-agent dist/agent/$(NEWER)/ironkeep-agent
endif

# The service with the runtime it needs and the console, compiled in advance, in dist/daemon.
daemon: console
	rm -rf dist/daemon
	dotnet publish src/IronKeep.Service --self-contained -p:PublishReadyToRun=true -p:OpenApiGenerateDocuments=false $(PUBLISH) -o dist/daemon
	rm -f dist/daemon/*.Development.json dist/daemon/appsettings.json dist/daemon/web.config

# Puts client, service, console, unit, manual pages and completions below DESTDIR and PREFIX.
install: client daemon
	install -d $(DESTDIR)$(PREFIX)/bin $(DESTDIR)$(PREFIX)/sbin $(DESTDIR)$(PREFIX)/lib $(DESTDIR)$(PREFIX)/share/man/man1 \
	    $(DESTDIR)$(PREFIX)/share/man/man8 $(DESTDIR)$(PREFIX)/share/doc/ironkeep $(DESTDIR)$(PREFIX)/share/bash-completion/completions \
	    $(DESTDIR)$(PREFIX)/share/zsh/vendor-completions $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d $(DESTDIR)/etc/ironkeep \
	    $(DESTDIR)/lib/systemd/system
	rm -rf $(DESTDIR)$(PREFIX)/lib/ironkeep
	cp -r dist/daemon $(DESTDIR)$(PREFIX)/lib/ironkeep
	ln -sf ../lib/ironkeep/ironkeepd $(DESTDIR)$(PREFIX)/sbin/ironkeepd
	install -m 0755 dist/client/ironkeep $(DESTDIR)$(PREFIX)/bin/ironkeep
	dist/client/ironkeep man-pages dist/man
	sed 's/@VERSION@/$(VERSION)/' packaging/ironkeepd.8 > dist/man/ironkeepd.8
	for page in dist/man/*.1; do gzip -9n < $$page > $(DESTDIR)$(PREFIX)/share/man/man1/$$(basename $$page).gz; done
	gzip -9n < dist/man/ironkeepd.8 > $(DESTDIR)$(PREFIX)/share/man/man8/ironkeepd.8.gz
	dist/client/ironkeep completion bash > $(DESTDIR)$(PREFIX)/share/bash-completion/completions/ironkeep
	dist/client/ironkeep completion zsh > $(DESTDIR)$(PREFIX)/share/zsh/vendor-completions/_ironkeep
	dist/client/ironkeep completion fish > $(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/ironkeep.fish
	sed 's:/usr/lib/ironkeep:$(PREFIX)/lib/ironkeep:' packaging/ironkeepd.service > $(DESTDIR)/lib/systemd/system/ironkeepd.service
	[ -e $(DESTDIR)/etc/ironkeep/ironkeepd.json ] || install -m 0640 packaging/ironkeepd.json $(DESTDIR)/etc/ironkeep/ironkeepd.json
	install -m 0644 LICENSE $(DESTDIR)$(PREFIX)/share/doc/ironkeep/copyright
	install -m 0644 docs/*.md packaging/give-back-to-owners.conf $(DESTDIR)$(PREFIX)/share/doc/ironkeep/
	gzip -9n < CHANGELOG.md > $(DESTDIR)$(PREFIX)/share/doc/ironkeep/changelog.gz

# Puts the agent, its unit and its manual page below DESTDIR and PREFIX.
install-agent: agent
	install -d $(DESTDIR)$(PREFIX)/sbin $(DESTDIR)$(PREFIX)/share/man/man8 $(DESTDIR)$(PREFIX)/share/doc/ironkeep-agent $(DESTDIR)/lib/systemd/system
	install -m 0755 dist/agent/ironkeep-agent $(DESTDIR)$(PREFIX)/sbin/ironkeep-agent
ifeq ($(RID),linux-x64)
	install -D -m 0755 dist/agent/$(NEWER)/ironkeep-agent $(DESTDIR)$(PREFIX)/lib/ironkeep-agent/$(NEWER)/ironkeep-agent
endif
	sed 's:/usr/sbin:$(PREFIX)/sbin:' packaging/ironkeep-agent.service > $(DESTDIR)/lib/systemd/system/ironkeep-agent.service
	sed 's/@VERSION@/$(VERSION)/' packaging/ironkeep-agent.8 | gzip -9n > $(DESTDIR)$(PREFIX)/share/man/man8/ironkeep-agent.8.gz
	install -m 0644 LICENSE $(DESTDIR)$(PREFIX)/share/doc/ironkeep-agent/copyright
	install -m 0644 docs/agent.md $(DESTDIR)$(PREFIX)/share/doc/ironkeep-agent/

# Debian packages of the same, in dist/.
package:
	@packaging/build-deb ironkeep
	@packaging/build-deb ironkeep-agent


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
