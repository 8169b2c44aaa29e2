#!/bin/sh
# Installs what "make screenshots" draws with: a screen without a monitor, a terminal, a program that takes its picture.
set -eu
need=""
command -v Xvfb >/dev/null 2>&1 || need="$need xvfb"
command -v xterm >/dev/null 2>&1 || need="$need xterm"
command -v import >/dev/null 2>&1 || need="$need imagemagick"
command -v chromium >/dev/null 2>&1 || need="$need chromium"
fc-list 2>/dev/null | grep -q "DejaVu Sans Mono" || need="$need fonts-dejavu-core"
[ -z "$need" ] && exit 0
if [ "$(id -u)" -ne 0 ]; then
    echo "missing for screenshots (run as root, or install by hand):$need" >&2
    exit 1
fi
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq
# shellcheck disable=SC2086
apt-get install -y -qq --no-install-recommends $need >/dev/null
