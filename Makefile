# Everything works from a fresh Debian machine with Python 3.11 and root or sudo.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
# Where byte code must not be kept, every start of the program would compile all of it anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test check lint texts bare night flakes full benchmarks browsers endings beside liars races crates crews fuzz \
	mutations screenshots \
	deb wheelhouse folder stick papers lock packages-test stick-test clean

demo: $(VENV)/.installed
	@$(BIN)/askport demo

# Tests that wait overlap; beside them, those that compute take what is left of the cores.
ROOM = tools/test-room $(BIN)/pytest --waiting 8
NIGHT = ASKPORT_NIGHT=1

test: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(ROOM)

# In memory where there is enough of it: what is written lasts no longer than the run.
check: lint $(VENV)/.tests
	@[ "$$(df --output=avail /dev/shm 2>/dev/null | tail -n 1)" -lt 500000 ] || at=/dev/shm; \
	TMPDIR=$$(mktemp -d -p "$${at:-/tmp}") && export TMPDIR && trap 'rm -rf "$$TMPDIR"' EXIT && \
	$(BIN)/pytest --waiting 1 -m "not kernel and not screen and not database and not long"

# Lines of the product, blank ones not counted; it only goes down.
MOST_LINES = 47168
lint: $(VENV)/.dev
	$(BIN)/ruff check src tests benchmarks docs packages
	$(BIN)/ruff format --check src tests benchmarks docs packages
	$(BIN)/mypy
	$(BIN)/lint-imports
	$(BIN)/python docs/texts.py --check
	@lines=$$(git ls-files 'src/*.py' | xargs cat | grep -c '[^[:space:]]'); echo "$$lines lines of at most $(MOST_LINES)"; \
		[ $$lines -le $(MOST_LINES) ] || { echo "src has grown: take something away." >&2; exit 1; }

# What a stranger does: the second command, in a bare Debian made for it, as root and as a user with sudo.
bare:
	@sh tools/system-packages mmdebstrap:command:mmdebstrap
	@tools/in-bare-debian $(SUITE)

# Everything at full strength, target by target: a line each, and the figures in build/night.
night: $(VENV)/.dev $(VENV)/.tools $(VENV)/partners
	$(BIN)/python benchmarks/night.py

# Twenty runs of the tests in random orders: quiet, beside busy loops, and at nice 10 beside them.
flakes: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(BIN)/python benchmarks/flakes.py

full: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) HYPOTHESIS_PROFILE=long $(ROOM)

benchmarks: $(VENV)/.dev $(VENV)/.tools $(VENV)/partners
	tools/test-room $(BIN)/python benchmarks/run.py

endings: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) ASKPORT_ENDINGS=210 $(ROOM) tests/test_restoring.py tests/test_giving_back.py tests/test_job.py \
		-k "every_end or restoring or kill_9 or flipped_bit"

beside: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) ASKPORT_BESIDE=200 $(ROOM) tests/test_beside.py

LIES = liar or pulled or lies or what_nothing_shows or another_port or read_late
liars: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) ASKPORT_LIARS=20 tools/test-room $(BIN)/pytest --waiting 16 tests/test_liars.py tests/test_controls.py \
		tests/test_kernel.py -k "$(LIES)"

races: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) ASKPORT_RACES=100 $(ROOM) tests/test_kernel.py -k beside_a_server

browsers: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	@sh tools/system-packages --no-install-recommends chromium:command:chromium chromium-driver:command:chromedriver
	$(BIN)/pip install --quiet --disable-pip-version-check --no-compile --editable '.[test,browsers]'
	$(NIGHT) ASKPORT_BROWSERS=1 tools/test-room $(BIN)/pytest --waiting 2 tests/test_browsers.py

crates: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) ASKPORT_CRATES=3 tools/test-room $(BIN)/pytest --waiting 3 tests/test_switch_crate.py -k "silent or crate_of_24 or interrupted"

crews: $(VENV)/.tests $(VENV)/.tools $(VENV)/partners
	$(NIGHT) ASKPORT_CREW=300 $(ROOM) tests/test_crew.py tests/test_crew_at_work.py

fuzz: $(VENV)/.dev
	$(BIN)/python benchmarks/fuzz.py

mutations: $(VENV)/.dev $(VENV)/.tools $(VENV)/partners
	tools/test-room $(BIN)/python benchmarks/mutations.py

screenshots: $(VENV)/.tests $(VENV)/partners
	@sh tools/system-packages tmux:command:tmux xvfb:command:Xvfb xterm:command:xterm imagemagick:command:import fonts-dejavu-core:file:/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf
	tools/test-room $(BIN)/python docs/screenshots/make.py

# Every text that people read, for translators; lint says where one is missing, or made of parts.
texts: $(VENV)/.dev
	$(BIN)/python docs/texts.py

$(VENV)/bin/python:
	@sh tools/system-packages python3-venv:import:ensurepip
	$(PYTHON) -m venv $(VENV)

$(VENV)/.installed: WANTED := .
$(VENV)/.tests: WANTED := .[test]
$(VENV)/.dev: WANTED := .[dev]
$(VENV)/.installed $(VENV)/.tests $(VENV)/.dev: pyproject.toml $(VENV)/bin/python
	$(BIN)/pip install --quiet --disable-pip-version-check --no-compile --editable '$(WANTED)'
	@$(BIN)/python -m compileall -q -j 0 $(VENV)/lib src >/dev/null || true
	@touch $@ $(VENV)/.installed

# What the tests talk to: a terminal, network namespaces, and a DHCP client as a device.
$(VENV)/.tools: $(VENV)/bin/python
	@sh tools/system-packages tmux:command:tmux iproute2:command:ip nftables:command:nft iputils-ping:command:ping procps:command:sysctl openssl:command:openssl udhcpc:command:udhcpc udhcpd:command:udhcpd curl:command:curl poppler-utils:command:pdftoppm zbar-tools:command:zbarimg
	@touch $@

# Programs at the other end, and on a laptop, that are never installed, only unpacked: tools/test-room shows them.
$(VENV)/partners: tools/test-partners $(VENV)/bin/python
	@sh tools/test-partners "$(CURDIR)/$@" isc-dhcp-client avahi-autoipd avahi-daemon lldpd dnsmasq-base \
		busybox-static inetutils-telnetd openssh-server dropbear-bin bootpc snmpd knxd ola wsdd \
		kea-dhcp4-server isc-dhcp-server bind9-utils postgresql network-manager dhcpcd-base dbus systemd
	@touch $@

# Packages for laptops without git and make; each goes to dist/.
deb: $(VENV)-packages/.ready build/from-commands
	@$(VENV)-packages/bin/python packages/deb.py

wheelhouse: $(VENV)-packages/.ready
	@$(VENV)-packages/bin/python packages/wheelhouse.py

folder: $(VENV)-packages/.ready build/from-commands
	@$(VENV)-packages/bin/python packages/folder.py

papers: $(VENV)-packages/.ready
	@$(VENV)-packages/bin/python packages/papers.py

stick: deb
	@sh tools/system-packages mmdebstrap:command:mmdebstrap squashfs-tools:command:mksquashfs grub-pc-bin:file:/usr/lib/grub/i386-pc grub-efi-amd64-bin:file:/usr/lib/grub/x86_64-efi grub-common:command:grub-mkrescue xorriso:command:xorriso mtools:command:mcopy exfatprogs:command:mkfs.exfat
	@$(VENV)-packages/bin/python packages/stick.py

# The versions that are shipped, each with its hashes: made anew only on purpose.
lock: $(VENV)-packages/.ready
	$(VENV)-packages/bin/pip-compile --quiet --generate-hashes --no-emit-index-url --no-emit-find-links \
		--no-emit-trusted-host --strip-extras --no-header --output-file packages/requirements.lock pyproject.toml

packages-test: $(VENV)/.tests $(VENV)/.tools deb wheelhouse folder
	@sh tools/system-packages mmdebstrap:command:mmdebstrap
	@[ -e build/bare.tar ] || packages/bare_debian build/bare.tar
	$(NIGHT) ASKPORT_PACKAGES=1 tools/test-room $(BIN)/pytest tests/test_packages.py
	$(NIGHT) ASKPORT_CONNECTIONS=1000 $(ROOM) tests/test_by_group.py

stick-test: $(VENV)/.tests $(VENV)/.tools stick
	@sh tools/system-packages qemu-system-x86:command:qemu-system-x86_64 ovmf:file:/usr/share/OVMF/OVMF_CODE_4M.fd exfat-fuse:command:mount.exfat-fuse
	$(NIGHT) ASKPORT_STICK=1 $(BIN)/pytest tests/test_stick.py

$(VENV)-packages/.ready: packages/tools.txt
	@sh tools/system-packages python3-venv:import:ensurepip
	$(PYTHON) -m venv $(VENV)-packages
	$(VENV)-packages/bin/pip install --quiet --disable-pip-version-check --no-compile -r packages/tools.txt
	@touch $@

build/from-commands: $(VENV)/.installed $(shell find src/askport/cli -name '*.py') packages/commands.py
	@sh tools/system-packages help2man:command:help2man
	@$(BIN)/python packages/from_commands.py

clean:
	rm -rf $(VENV) $(VENV)-packages build dist src/*.egg-info
