#!/bin/sh
# Check for what the project needs, and say in one line what to install; the tests' tools are installed where that is possible.
set -eu

newer() { # newer FOUND WANTED: is FOUND at least WANTED?
    [ "$(printf '%s\n%s\n' "$2" "$1" | sort -V | head -n 1)" = "$2" ]
}

stop() {
    echo "$1" >&2
    exit 1
}

case "$1" in
python)
    python=$2
    command -v "$python" >/dev/null || stop "Python is missing: install Python 3.11 or newer (Debian: apt-get install python3 python3-venv)."
    found=$("$python" -c 'import sys; print("%d.%d" % sys.version_info[:2])')
    newer "$found" 3.11 || stop "Python $found is too old: install Python 3.11 or newer, or say which: make PYTHON=python3.12 …"
    "$python" -c 'import venv, ensurepip' 2>/dev/null || stop "Python's venv is missing: install it (Debian: apt-get install python3-venv)."
    ;;
git)
    command -v git >/dev/null || stop "git is missing: install it (Debian: apt-get install git)."
    ;;
node)
    command -v node >/dev/null && command -v npm >/dev/null || stop "Node is missing: install Node 20 or newer with npm."
    found=$(node --version | tr -d v)
    newer "$found" 20.19 || stop "Node $found is too old: install Node 20.19 or newer."
    ;;
tools)
    packages=""
    want() { command -v "$1" >/dev/null || packages="$packages $2"; }
    want chromium-headless-shell chromium-headless-shell
    want aapt aapt
    want aapt2 aapt
    want zipalign zipalign
    want apksigner apksigner
    want keytool default-jdk-headless
    want plistutil libplist-utils
    want protoc protobuf-compiler
    want llvm-mc llvm
    want jarsigner default-jdk-headless
    want openssl openssl
    want osslsigncode osslsigncode
    want git git
    [ -f /usr/share/android-framework-res/framework-res.apk ] || packages="$packages android-framework-res"
    [ -d /usr/share/fonts/truetype/dejavu ] || packages="$packages fonts-dejavu-core"
    [ -z "$packages" ] && exit 0
    [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null || stop "The tests need these Debian packages; install them: apt-get install$packages"
    echo "Installing what the tests need:$packages"
    apt-get update -qq
    # shellcheck disable=SC2086
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $packages >/dev/null
    ;;
esac
