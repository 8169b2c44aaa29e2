#!/bin/sh
# Takes a snapshot of this machine, for an audit elsewhere with: rupex audit FILE.tar.gz
#
#   sh collect.sh [FILE.tar.gz]          (ROOT=/some/folder takes a host tree there instead of this machine)
#
# Taken are the configuration of web servers and what it includes, certificates, account names and groups, renewal jobs,
# packet filter rules, listening sockets, deployment files, versions. Private keys are never taken: the crypto library's
# command line describes them (kind, size, a digest of the public half). What looks like a secret in a text is replaced.
# Nothing on the machine is changed. It needs no root; what it may not read is listed in the archive.
set -u
umask 077
LC_ALL=C
export LC_ALL
unset CDPATH
root=${ROOT:-/}
root=${root%/}
out=${1:-$(uname -n).tar.gz}
case $out in /*) ;; *) out=$(pwd)/$out ;; esac
if [ -e "$out" ]; then
    echo "$out exists already; name another file" >&2
    exit 2
fi
work=$(mktemp -d "${TMPDIR:-/tmp}/rupex.XXXXXX") || exit 4
trap 'rm -rf "$work"' EXIT
trap 'exit 1' HUP INT TERM
tree=$work/tree
mkdir "$tree" "$tree/rupex"
: >"$work/seen"
: >"$work/queue"
: >"$work/stores"
unread=$tree/rupex/unread.tsv
manifest=$tree/manifest.mtree
lists=$tree/rupex/access.tsv
: >"$unread"
: >"$lists"
echo "#mtree" >"$manifest"
tab=$(printf '\t')
newline='
'

# --- where things are

normal() { # a path without "." and ".."
    case /$1/ in
    */../* | */./* | *//*)
        printf '%s\n' "$1" | awk -F/ '{ n = 0
            for (i = 1; i <= NF; i++) { if ($i == "..") { if (n) n-- } else if ($i != "" && $i != ".") part[++n] = $i }
            s = part[1]; for (i = 2; i <= n; i++) s = s "/" part[i]; print (n ? s : "") }' ;;
    *) printf '%s\n' "$1" ;;
    esac
}

add() { # kind path: queue a file, with every link on the way to it
    way=$(normal "${2#/}")
    turns=0
    while [ "$turns" -lt 40 ]; do
        turns=$((turns + 1))
        left=$way
        before=
        followed=
        while [ -n "$left" ]; do
            part=${left%%/*}
            case $left in */*) left=${left#*/} ;; *) left= ;; esac
            here=${before:+$before/}$part
            if [ -L "$root/$here" ]; then
                queue link "$here"
                points=$(readlink "$root/$here")
                case $points in
                /*) way=${points#/}${left:+/$left} ;;
                *) way=${before:+$before/}$points${left:+/$left} ;;
                esac
                way=$(normal "$way")
                followed=1
                break
            fi
            before=$here
        done
        [ -n "$followed" ] || break
    done
    if [ -f "$root/$way" ] && [ ! -L "$root/$way" ]; then
        queue "$1" "$way"
    fi
}

queue() {
    case $2 in *"$newline"* | *"$tab"*) return ;; esac
    if ! grep -Fqx "$2" "$work/seen"; then
        printf '%s\n' "$2" >>"$work/seen"
        printf '%s\t%s\n' "$1" "$2" >>"$work/queue"
    fi
}

each() { # kind pattern
    old=$IFS
    IFS=$newline
    case $2 in
    *'**/'*)
        for start in $root/${2%%/\*\**}; do
            [ -d "$start" ] || continue
            find "$start" -maxdepth 7 \( -type f -o -type l \) -name "${2##*/}" 2>/dev/null
        done
        ;;
    *)
        for found in $root/$2; do
            if [ -f "$found" ] || [ -L "$found" ]; then printf '%s\n' "$found"; fi
        done
        ;;
    esac >"$work/found"
    IFS=$old
    while IFS= read -r found; do add "$1" "${found#"$root"}"; done <"$work/found"
}

closed() { # a folder that may not be looked into
    if [ -d "$root/$1" ] && [ ! -x "$root/$1" -o ! -r "$root/$1" ]; then
        printf '%s\t%s\n' "$1" "the folder may not be listed" >>"$unread"
    fi
}

# --- what leaves of a file

public_half() { # of a private key: path, form (STORE: a key store that STORE_PASSWORD opens)
    if [ "${2:-}" = STORE ]; then
        openssl pkcs12 -in "$1" -passin env:STORE_PASSWORD -nocerts -nodes 2>/dev/null </dev/null | openssl pkey -pubout 2>/dev/null
    else
        openssl pkey -in "$1" ${2:+-inform "$2"} -passin pass: -pubout 2>/dev/null </dev/null
    fi
}

soundness() { # of a private key: path, form
    if [ "${2:-}" = STORE ]; then
        openssl pkcs12 -in "$1" -passin env:STORE_PASSWORD -nocerts -nodes 2>/dev/null </dev/null | openssl pkey -check -noout 2>&1
    else
        openssl pkey -in "$1" ${2:+-inform "$2"} -passin pass: -check -noout 2>&1 </dev/null
    fi
}

describe() { # a private key: path, form, or the public half where that is all there is. The key itself is neither kept nor copied
    kind=other bits=unknown encrypted=no digest=unknown flaw=unknown
    if [ -n "${3:-}" ] || { [ "${2:-}" != STORE ] && grep -q 'ENCRYPTED' "$1"; }; then encrypted=yes; fi
    if command -v openssl >/dev/null 2>&1; then
        public=${3:-}
        [ "$encrypted" = yes ] || public=$(public_half "$1" "${2:-}")
        if [ -n "$public" ]; then
            digest=$(printf '%s\n' "$public" | openssl pkey -pubin -pubout -outform DER 2>/dev/null |
                openssl dgst -sha256 2>/dev/null | sed 's/.*[ =]//')
            said=$(printf '%s\n' "$public" | openssl pkey -pubin -noout -text 2>/dev/null)
            bits=$(printf '%s\n' "$said" | sed -n 's/.*(\([0-9][0-9]*\) bit.*/\1/p' | sed 1q)
            case $said in
            *ED25519*) kind=Ed25519 bits=256 ;;
            *ED448*) kind=Ed448 bits=456 ;;
            *Modulus*) kind=RSA ;;
            *OID*) kind=ECDSA ;;
            *G:*) kind=DSA ;;
            esac
        fi
        if [ -n "$public" ] && [ "$encrypted" = no ]; then
            case $(soundness "$1" "${2:-}") in
            *"Key is valid"*) flaw=none ;;
            esac
        fi
    fi
    echo "-----BEGIN RUPEX KEY DESCRIPTION-----"
    echo "Type: $kind"
    echo "Bits: ${bits:-unknown}"
    echo "Encrypted: $encrypted"
    echo "Public-SHA256: ${digest:-unknown}"
    echo "Flaw: $flaw"
    echo "-----END RUPEX KEY DESCRIPTION-----"
}

named_in_xml() { # what a server.xml names: key stores, each with its password, and folders of applications
    awk '
    function value(tag, name,   at, found) {
        if (!match(tag, "[ \t\r\n]" name "[ \t\r\n]*=[ \t\r\n]*(\"[^\"]*\"|\047[^\047]*\047)")) return ""
        found = substr(tag, RSTART, RLENGTH)
        sub(/^[^"\047]*["\047]/, "", found); sub(/["\047]$/, "", found)
        gsub(/&quot;/, "\"", found); gsub(/&apos;/, "\047", found); gsub(/&lt;/, "<", found); gsub(/&gt;/, ">", found); gsub(/&amp;/, "\\&", found)
        return found
    }
    function either(tag, one, other,   found) { found = value(tag, one); return found == "" ? value(tag, other) : found }
    { text = text $0 "\n" }
    END {
        while ((at = index(text, "<!--"))) {
            behind = substr(text, at + 4); end = index(behind, "-->")
            text = substr(text, 1, at - 1) (end ? substr(behind, end + 3) : "")
        }
        count = split(text, tags, "<")
        for (i = 1; i <= count; i++) {
            tag = tags[i]
            if (tag ~ /^Host[ \t\r\n\/>]/) { file = value(tag, "appBase"); print "applications\t" (file == "" ? "webapps" : file) }
            if (tag ~ /^Context[ \t\r\n]/ && (file = value(tag, "docBase")) ~ /^\//) print "application\t" file
            if (tag !~ /^(Connector|SSLHostConfig|Certificate)[ \t\r\n]/) continue
            word = either(tag, "certificateKeystorePassword", "keystorePass")
            if (tag !~ /^Certificate/) above = word
            if (word == "") word = above
            file = either(tag, "certificateKeystoreFile", "keystoreFile")
            sub(/^file:/, "", file)
            if (file != "" && file !~ /[$\t\n]/ && word !~ /[\t\n]/) print "store\t" file "\t" (word == "" ? "changeit" : word)
        }
    }' "$1"
}

certificates_in() { # a key store that STORE_PASSWORD opens: those that belong to its first key, as PEM
    if command -v openssl >/dev/null 2>&1; then
        for more in "" -legacy; do
            [ -n "$(openssl pkcs12 -in "$1" -passin env:STORE_PASSWORD -nokeys $more 2>/dev/null </dev/null)" ] || continue
            openssl pkcs12 -in "$1" -passin env:STORE_PASSWORD -nokeys $more 2>/dev/null </dev/null | sed -n '/BEGIN CERT/,/END CERT/p'
            return
        done
    fi
    command -v keytool >/dev/null 2>&1 || return
    keytool -list -rfc -keystore "$1" -storepass:env STORE_PASSWORD 2>/dev/null </dev/null | awk '
        /^Entry type: / { first = !done && /PrivateKeyEntry/; if (first) done = 1 }
        first && /BEGIN CERT/ { inside = 1 }
        inside { print }
        /END CERT/ { inside = 0 }'
}

open_store() { # path in the tree: what of a key store may leave; nothing where the configuration does not open it
    STORE_PASSWORD=$(awk -F "$tab" -v path="$1" '$1 == path { print $2; exit }' "$work/stores")
    [ -n "$STORE_PASSWORD" ] || return
    export STORE_PASSWORD
    chain=$(certificates_in "$root/$1")
    if [ -n "$chain" ]; then
        printf '%s\n' "$chain"
        if [ -n "$(command -v openssl)" ] && [ -z "$(public_half "$root/$1" STORE)" ]; then
            describe "$root/$1" STORE "$(printf '%s\n' "$chain" | openssl x509 -pubkey -noout 2>/dev/null)"
        else
            describe "$root/$1" STORE
        fi
    fi
    unset STORE_PASSWORD
}

is_text() { # no control characters
    tr -d '\000-\010\016-\032\034-\037\177' <"$1" | cmp -s - "$1"
}

clean() { # standard input without secrets; DESCRIBED stands where a private key stood
    awk '
    BEGIN {
        core = "(passwo?r?d|passphrase|pass|secret|token|(api|access|auth|private|signing|encryption)[_-]?key|client[_-]key[_-]data|credential)"
        split("changeit changeme password passwd secret admin tomcat s3cret manager root test 123456", words, " ")
        for (i in words) known[words[i]] = 1
    }
    function mark(value) { return (value in known) ? "rupex-well-known-secret-removed" : "rupex-secret-removed" }
    function holds(name,   low) {
        if (name ~ /([_-]([Ii][Dd]|[Rr][Ee][Ff])|[a-z](Id|Ref))$/) return 0
        low = tolower(name); gsub(/\./, "_", low)
        return low !~ /(file|path|dir|folder|url|uri|endpoint|name|type|length|size|expires?|expiry|ttl|lifetime|[_-](age|min|max|len|alg)|timeout|policy|header|algorithm|format|field|location|issuer|count|limit|required|enabled|prompt|tokens|secrets|passwords|credentials|method|schemes?|hint|alias|zone|dialog|agent)$/
    }
    function refers(value,   low) {
        low = tolower(value)
        if (low ~ /^[$%@!*<|>\/~[]/ || low ~ /^\.\.?\// || low ~ /^\{\{/ || low ~ /^enc\(/) return 1
        if (low ~ /^(file|exec|vault|env|secret|sops|arn|ref|op|https?|ssm|kms)[+:]/) return 1
        if (low ~ /^(null|none|nil|true|false|on|off|yes|no|required|optional|default|prompt|redacted|x+|all|any|full|prod|min(or|imal)?)$/) return 1
        return low ~ /^[0-9]+$/ && length(low) < 5
    }
    function leads(text) {
        sub(/^.*[;{]/, "", text)
        sub(/^[ \t]*([Ss][Ee][Tt][ \t]+[$]?|([Ss]et[Ee]nv|[Pp]ass[Ee]nv|[Dd]efine|export|ENV|ARG|env)[ \t]+["\047]?|user[ \t]+[^ \t]+[ \t]+)/, "", text)
        return text ~ /^[ \t]*["\047]?$/
    }
    function replace(line, pattern, skip,   done, found, start, value) { # what follows "skip" in each match
        done = ""
        while (match(tolower(line), pattern)) {
            found = substr(line, RSTART, RLENGTH); start = RSTART
            if (match(tolower(found), skip)) {
                value = substr(found, RLENGTH + 1); sub(/@$/, "", value)
                done = done substr(line, 1, start - 1) substr(found, 1, RLENGTH) mark(value) (found ~ /@$/ ? "@" : "")
            } else done = done substr(line, 1, start - 1) mark(found)
            line = substr(line, start + length(found))
        }
        return done line
    }
    function redact(line,   done, low, from, to, name, rest, form, at, first, value, gap, behind) {
        done = ""
        while (match(tolower(line), core)) {
            from = RSTART; to = RSTART + RLENGTH
            low = substr(tolower(line), from, RLENGTH)
            while (substr(line, to, 1) ~ /[A-Za-z0-9_.-]/) to++
            while (from > 1 && substr(line, from - 1, 1) ~ /[A-Za-z0-9_.$-]/) from--
            name = substr(line, from, to - from); sub(/^[$.-]+/, "", name)
            rest = substr(line, to); form = 0
            if (holds(name)) {
                if (match(rest, /^["\047]?\]?[ \t]*[=:]>?[ \t]*/)) form = 1
                else if (match(rest, /^["\047][ \t]+value[ \t]*=[ \t]*/)) form = 1
                else if (low != "pass" && match(rest, /^["\047]?[ \t]+/) && leads(done substr(line, 1, from - 1))) form = 2
            }
            gap = RLENGTH; value = ""
            if (form) {
                at = substr(rest, gap + 1); first = substr(at, 1, 1)
                if (first == "\"" || first == "\047") {
                    if (index(substr(at, 2), first)) { value = substr(at, 2, index(substr(at, 2), first) - 1); gap++ }
                } else if (match(at, /^[^ \t\r;,"\047{}<>#&()]+/)) value = substr(at, 1, RLENGTH)
                behind = substr(rest, gap + length(value) + 1)
                if (form == 2 && behind !~ /^["\047]?[ \t\r]*(;|#|groups |$)/) value = ""
            }
            if (length(value) < 3 || refers(value)) { done = done substr(line, 1, to - 1); line = rest; continue }
            done = done substr(line, 1, to - 1) substr(rest, 1, gap) mark(value)
            line = behind
        }
        return done line
    }
    in_key { if ($0 ~ /-----END [A-Z0-9 ]*PRIVATE KEY-----/) { in_key = 0; sub(/^.*PRIVATE KEY-----/, ""); if ($0 != "") print } ; next }
    /-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----/ {
        head = $0; sub(/-----BEGIN .*$/, "", head)
        print head ENVIRON["DESCRIBED"]
        if ($0 !~ /-----END [A-Z0-9 ]*PRIVATE KEY-----/) in_key = 1
        next
    }
    {
        line = $0
        if (pending && match(line, /^[ \t]*["\047]?value["\047]?[ \t]*:[ \t]*/)) {
            value = substr(line, RLENGTH + 1); head = substr(line, 1, RLENGTH); gsub(/^["\047]|["\047][ \t\r]*$/, "", value)
            if (length(value) > 2 && !refers(value)) line = head mark(value)
        }
        pending = 0
        if (match(tolower(line), /name["\047]?[ \t]*:[ \t]*["\047]?[a-z0-9_.-]+["\047]?[ \t\r]*$/)) {
            name = substr(line, RSTART); sub(/^[^:]*:[ \t]*["\047]?/, "", name); sub(/["\047]?[ \t\r]*$/, "", name)
            pending = tolower(name) ~ core && holds(name)
        }
        line = replace(line, "authorization[\"\047]?[ \t:=]+[\"\047]?(basic|bearer|token)[ \t]+[^ \t\"\047;$]+", "^authorization[\"\047]?[ \t:=]+[\"\047]?(basic|bearer|token)[ \t]+")
        line = replace(line, "^[ \t]*stats[ \t]+auth[ \t]+[^ \t:]+:[^ \t$]+", "^[ \t]*stats[ \t]+auth[ \t]+[^ \t:]+:")
        if (line !~ /:\/\/[^ \t\/:@"\047]*:[$%@!*<|>\/~[{]/) line = replace(line, "://[^ \t/:@\"\047]*:[^ \t/@\"\047$]+@", "^://[^ \t/:@\"\047]*:")
        line = replace(line, "[$][$]?(apr1|2[abxy]|[156y]|argon2(id|i|d))[$][a-z0-9./_$=,+-]+", "^$")
        line = replace(line, "[{](ssha|sha|sha256|sha512)[}][a-z0-9+/=]+", "^$")
        print redact(line)
    }'
}

rights() { # the mtree row of a path: $1 its type
    ls -ld "$root/$2" 2>/dev/null | awk -v path="$2" -v type="$1" '
    function bits(text, special, big,   n) {
        n = (substr(text, 1, 1) == "r") * 4 + (substr(text, 2, 1) == "w") * 2
        return n + (substr(text, 3, 1) ~ "[x" special "]")
    }
    {
        mode = (substr($1, 4, 1) ~ /[sS]/) * 4 + (substr($1, 7, 1) ~ /[sS]/) * 2 + (substr($1, 10, 1) ~ /[tT]/)
        row = sprintf("%d%d%d%d", mode, bits(substr($1, 2, 3), "s"), bits(substr($1, 5, 3), "s"), bits(substr($1, 8, 3), "t"))
        gsub(/\\/, "\\134", path); gsub(/ /, "\\040", path); gsub(/#/, "\\043", path)
        user = ($3 ~ /^[0-9]+$/) ? "uid=" $3 : "uname=" $3
        group = ($4 ~ /^[0-9]+$/) ? "gid=" $4 : "gname=" $4
        print "./" path " type=" type " mode=" row " " user " " group
    }' >>"$manifest"
    case $(ls -ld "$root/$2" 2>/dev/null) in
    ??????????+*)
        if command -v getfacl >/dev/null 2>&1; then
            said=$(getfacl -c -E -p -- "$root/$2" 2>/dev/null | grep . | tr '\n' ',')
        else
            said='?'
        fi
        printf '%s\t%s\n' "$2" "$said" >>"$lists"
        ;;
    esac
}

folders() { # the rows of the folders on the way to a path, each once
    way=$1
    while case $way in */*) true ;; *) false ;; esac do
        way=${way%/*}
        [ -d "$tree/$way" ] && break
        printf '%s\n' "$way" >>"$work/folders"
    done
    case $1 in */*) mkdir -p "$tree/${1%/*}" ;; esac
}

left_out() { # path why
    printf '%s\t%s\n' "$1" "left out when the snapshot was taken: $2" >>"$unread"
    : >"$tree/$1"
}

store() { # kind path
    folders "$2"
    if [ "$1" = link ]; then
        ln -s "$(readlink "$root/$2")" "$tree/$2"
        return
    fi
    rights file "$2"
    file=$root/$2
    name=${2##*/}
    if [ "$1" = names ]; then
        : >"$tree/$2"
        printf '%s\t%s\n' "$2" "of site content only names are taken" >>"$unread"
    elif [ ! -r "$file" ]; then
        : >"$tree/$2"
        printf '%s\t%s\n' "$2" "permission denied" >>"$unread"
    elif [ "$2" = etc/passwd ] || [ "$2" = etc/group ]; then
        sed 's/^\([^:]*\):[^:]*:/\1:x:/' "$file" >"$tree/$2"
    elif [ "$1" = package ]; then
        awk -v RS= -v ORS='\n\n' '/^(Package: |.*\nPackage: |P:|.*\nP:)(nginx|apache2|httpd|libssl|openssl|gnutls|tomcat|haproxy|caddy|lighttpd|traefik|certbot|openjdk|default-jre|libapache2-mod-|libnginx-mod-|nftables|iptables|ufw|firewalld)/ {
            n = split($0, row, "\n"); s = ""
            for (i = 1; i <= n; i++) if (row[i] ~ /^(Package|Status|Version|Architecture|P|V|A):/) s = s (s == "" ? "" : "\n") row[i]
            print s }' "$file" >"$tree/$2"
    elif ! is_text "$file"; then
        opened=$(open_store "$2")
        if [ -n "$opened" ]; then
            printf '%s\n' "$opened" >"$tree/$2"
        elif command -v openssl >/dev/null 2>&1 && openssl x509 -inform DER -in "$file" -passin pass: -noout 2>/dev/null; then
            cat "$file" >"$tree/$2"
        elif command -v openssl >/dev/null 2>&1 && openssl pkey -inform DER -in "$file" -passin pass: -noout 2>/dev/null </dev/null; then
            describe "$file" DER >"$tree/$2"
        else
            left_out "$2" "not text, only its name"
        fi
    elif grep -q -- 'PRIVATE KEY-----' "$file"; then
        DESCRIBED=$(describe "$file")
        export DESCRIBED
        clean <"$file" >"$tree/$2"
    else
        case $(printf '%s' "$name" | tr 'A-Z' 'a-z') in
        *passw* | *htpass* | *shadow* | *secret* | *token* | *ticket* | *credential* | *.jks | *.p12 | *.pfx | *.keystore | pass | pass[._-]* | *[._-]pass | *[._-]pass[._-]*)
            if grep -q -- '-----BEGIN CERTIFICATE-----' "$file"; then clean <"$file" >"$tree/$2"; else left_out "$2" "may be secret as a whole, only its name"; fi
            ;;
        *) clean <"$file" >"$tree/$2" ;;
        esac
    fi
    touch -r "$file" "$tree/$2" 2>/dev/null
}

named() { # the files and folders that a configuration names: what they are for, and the path as it stands there
    awk '/^[ \t]*#/ { next } {
        gsub(/["\047]/, " ")
        parts = split($0, part, /[;{}]/)
        for (p = 1; p <= parts; p++) {
            if (split(part[p], w, " ") < 2) continue
            word = tolower(w[1])
            if (word ~ /^(include|includeoptional)$/) print "configuration\t" w[2]
            else if (word ~ /^(ssl_certificate|ssl_certificate_key|ssl_trusted_certificate|ssl_client_certificate|ssl_dhparam|ssl_session_ticket_key|sslcertificatefile|sslcertificatekeyfile|sslcertificatechainfile|sslcacertificatefile)$/) print "credential\t" w[2]
            else if (word ~ /^(root|alias|documentroot)$/) print "root\t" w[2]
        }
    }' "$1"
}

base_of() { # where relative names of a configuration start
    case $1 in
    etc/*/*) rest=${1#etc/}; echo "etc/${rest%%/*}" ;;
    *) echo "${1%/*}" ;;
    esac
}

home_of() { # where relative names of a Tomcat start: above its conf folder; on Debian in the folder that links to it
    folder=${1%/*}
    case $folder in
    */conf) echo "/${folder%/conf}" ;;
    *) for home in "var/lib/${folder##*/}" "usr/share/${folder##*/}" "$folder"; do [ -d "$root/$home" ] && break; done; echo "/$home" ;;
    esac
}

application() { # of a Tomcat: its own configuration, and the names below it
    for own in WEB-INF/web.xml META-INF/context.xml; do add configuration "$1/$own"; done
    names_below "$1"
}

names_below() { # a document root
    site=$(normal "${1#/}")
    [ -n "$site" ] && [ -d "$root/$site" ] || return 0
    grep -Fqx "$site" "$work/roots" 2>/dev/null && return 0
    printf '%s\n' "$site" >>"$work/roots"
    find "$root/$site" -maxdepth 7 \( -type f -o -type l \) 2>/dev/null | sed 5001q >"$work/found"
    if [ "$(wc -l <"$work/found")" -gt 5000 ] || [ -n "$(find "$root/$site" -mindepth 8 2>/dev/null | sed 1q)" ]; then
        printf '%s\t%s\n' "$site" "more than 5000 names, or folders more than 6 deep" >>"$unread"
        return 0
    fi
    while IFS= read -r found; do
        case $found in */.htaccess) ;; *) queue names "${found#"$root"/}" ;; esac
    done <"$work/found"
}

# --- the machine's own facts

facts() {
    for command in "nginx -v" "apache2 -v" "httpd -v" "haproxy -v" "lighttpd -v" "caddy version" "openssl version"; do
        program=$(PATH=/usr/sbin:/usr/bin command -v "${command%% *}") || continue
        version=$("$program" ${command#* } 2>&1 | sed -n 's/^[^0-9]*\([0-9][0-9]*\.[0-9][0-9]*\.[0-9][0-9]*\).*/\1/p' | sed 1q)
        name=${command%% *}
        case $name in apache2 | httpd) name=apache ;; esac
        [ -n "$version" ] && printf '%s\t%s\n' "$name" "$version"
    done >"$tree/rupex/versions.tsv"
    booted=$(sed -n 's/^btime //p' /proc/stat 2>/dev/null)
    ticks=$(getconf CLK_TCK 2>/dev/null || echo 100)
    for process in /proc/[0-9]*; do
        [ -n "$booted" ] || break
        said=$(cat "$process/stat" 2>/dev/null) || continue
        name=${said#*\(}
        name=${name%\)*}
        case $name in nginx | apache2 | httpd | haproxy | lighttpd | caddy | traefik | java | node | dockerd | containerd) ;; *) continue ;; esac
        started=$(printf '%s\n' "${said##*\) }" | awk -v b="$booted" -v t="$ticks" '{ printf "%d", b + $20 / t }')
        started=$(date -u -d "@$started" +%Y-%m-%dT%H:%M:%S+00:00 2>/dev/null || date -u -r "$started" +%Y-%m-%dT%H:%M:%S+00:00)
        printf '%s\t%s\t%s\t%s\n' "${process#/proc/}" "$name" "$(ls -ld "$process" | awk '{ print $3 }')" "$started"
    done >"$tree/rupex/processes.tsv"
    if [ "$(id -u)" -eq 0 ]; then
        PATH=$PATH:/usr/sbin:/sbin
        nft list ruleset >"$tree/rupex/nft.rules" 2>/dev/null || rm -f "$tree/rupex/nft.rules"
        [ -s "$tree/rupex/nft.rules" ] || iptables-save >"$tree/rupex/iptables.rules" 2>/dev/null || :
        for rules in "$tree/rupex/nft.rules" "$tree/rupex/iptables.rules"; do [ -s "$rules" ] || rm -f "$rules"; done
    fi
}

# --- what is taken

while read -r kind pattern; do
    [ -n "$kind" ] || continue
    each "$kind" "$pattern"
done <<'ROWS'
@ROWS@
ROWS
for folder in etc/ssl/private etc/letsencrypt/live etc/letsencrypt/archive etc/pki/tls/private root var/spool/cron; do closed "$folder"; done

round=0
: >"$work/done"
while [ "$round" -lt 6 ]; do
    round=$((round + 1))
    awk -F "$tab" '$1 == "configuration" { print $2 }' "$work/queue" | grep -Fvx -f "$work/done" >"$work/todo" || break
    [ -s "$work/todo" ] || break
    cat "$work/todo" >>"$work/done"
    while IFS= read -r config; do
        [ -r "$root/$config" ] || continue
        case $config in server.xml | */server.xml)
            named_in_xml "$root/$config" >"$work/tomcat"
            while IFS=$tab read -r what word password; do
                case $word in /*) ;; *) word=$(home_of "$config")/$word ;; esac
                case $what in
                store)
                    add credential "$word"
                    printf '%s\t%s\n' "$way" "$password" >>"$work/stores"
                    ;;
                application) application "$word" ;;
                applications)
                    old=$IFS
                    IFS=$newline
                    for found in $root$word/*; do [ -d "$found" ] && application "${found#"$root"}"; done
                    IFS=$old
                    ;;
                esac
            done <"$work/tomcat"
            ;;
        esac
        named "$root/$config" >"$work/named"
        while IFS=$tab read -r kind word; do
            case $word in
            '' | *'$'*) continue ;;
            /*) ;;
            *) word=/$(base_of "$config")/$word ;;
            esac
            if [ "$kind" = root ]; then
                names_below "$word"
                continue
            fi
            old=$IFS
            IFS=$newline
            for found in $root$word; do
                if [ -d "$found" ]; then
                    for inner in "$found"/*; do [ -f "$inner" ] && add "$kind" "${inner#"$root"}"; done
                else
                    add "$kind" "${found#"$root"}"
                fi
            done
            IFS=$old
        done <"$work/named"
    done <"$work/todo"
done

: >"$work/folders"
rights dir ""
# What store runs may ask for a password on standard input, which is not where the queue may be.
while IFS=$tab read -r kind file <&3; do store "$kind" "$file" </dev/null; done 3<"$work/queue"
sort -u "$work/folders" | while IFS= read -r folder; do rights dir "$folder"; done
[ -z "$root" ] && facts

(cd "$tree" && tar cf - .) | gzip -9 >"$work/snapshot" || exit 4
cat "$work/snapshot" >"$out" || exit 4
echo "$out written: $(wc -l <"$work/queue" | tr -d ' ') items, no private key. Audit it elsewhere: rupex audit ${out##*/}"
count=$(grep -c 'permission denied\|may not be' "$unread")
if [ "$count" -gt 0 ]; then
    echo "$count could not be read (see rupex/unread.tsv in it); run it as root to take them too." >&2
    exit 3
fi
