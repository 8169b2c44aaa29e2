#!/bin/sh
# Installs the real servers that the tests compare Rupex with, from Debian's packages, without starting them.
# Without root it only says what is missing; a test that needs a missing server then fails, it does not skip.
set -eu
need=""
command -v nginx >/dev/null 2>&1 || [ -x /usr/sbin/nginx ] || need="$need nginx-light"
[ -e /usr/lib/nginx/modules/ngx_http_headers_more_filter_module.so ] || need="$need libnginx-mod-http-headers-more-filter"
command -v openssl >/dev/null 2>&1 || need="$need openssl"
[ -z "$need" ] && exit 0
if [ "$(id -u)" -ne 0 ]; then
    echo "missing for the tests (run as root, or install by hand):$need" >&2
    exit 0
fi
# A policy file keeps the packages from starting their services; one that is there already is left alone.
policy=/usr/sbin/policy-rc.d
if [ ! -e "$policy" ]; then
    printf '#!/bin/sh\nexit 101\n' >"$policy"
    chmod 755 "$policy"
    trap 'rm -f "$policy"' EXIT
fi
export DEBIAN_FRONTEND=noninteractive
apt-get update -qq
# shellcheck disable=SC2086
apt-get install -y -qq --no-install-recommends $need >/dev/null
