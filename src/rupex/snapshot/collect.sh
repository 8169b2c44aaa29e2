#!/bin/sh
# Takes a snapshot of this machine, for an audit elsewhere with: rupex audit FILE.tar.gz
#
#   sh collect.sh [FILE.tar.gz]          (ROOT=/some/folder takes a host tree there instead of this machine)
#
# Taken are the configuration of web servers and what it includes, certificates, account names and groups, renewal jobs,
# packet filter rules, listening sockets, deployment files, versions. Of a text only what an audit needs leaves, the rest is
# masked; private keys are described by the crypto library's command line (kind, size, a digest of the public half).
# Nothing on the machine is changed: all that is written are FILE and a scratch folder of its own. It needs no root; what it
# may not read is listed in the archive.
set -uf
umask 077
LC_ALL=C
export LC_ALL
unset CDPATH ENV
root=${ROOT:-/}
root=${root%/}
out=${1:-$(uname -n).tar.gz}
case $out in /*) ;; *) out=$PWD/$out ;; esac
# Made first, never through a link or over a file, readable by its owner only, and gone again if anything fails. A signal
# is only noted until the file is known to be ours: ended in between, the script would leave it behind.
work=
is_ours=
is_done=
ended=
leave() {
    [ -z "$work" ] || rm -rf "$work"
    [ -z "$is_ours" ] || [ -n "$is_done" ] || rm -f "$out"
}
trap leave EXIT
trap 'ended=1' HUP INT TERM PIPE
set -C
if ! true 2>/dev/null >"$out"; then
    if [ -e "$out" ] || [ -L "$out" ]; then echo "$out exists already; name another file" >&2
    else echo "$out cannot be written" >&2; fi
    exit 2
fi
is_ours=1
set +C
trap 'exit 1' HUP INT TERM PIPE
[ -z "$ended" ] || exit 1
work=$(mktemp -d "${TMPDIR:-/tmp}/rupex.XXXXXXXXXX") || exit 4
tree=$work/tree
mkdir "$tree" "$tree/rupex" || exit 4
tab=$(printf '\t')
newline='
'
MOST_BYTES=16777216
MOST_NAMES=5000
MOST_ITEMS=60000
for file in found odd queue done roots stores tables program; do : >"$work/$file"; done
cat >"$work/program" <<'PROGRAM' || exit 4
@PROGRAM@
PROGRAM
cat >"$work/tables" <<'TABLES' || exit 4
@TABLES@
TABLES
unread=$tree/rupex/unread.tsv
: >"$unread"
has_openssl=
command -v openssl >/dev/null 2>&1 && has_openssl=1

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

resolve() { # path: sets way to the path with every link resolved inside the tree; each link on the way is put into the queue
    way=$(normal "${1#/}")
    case $way in proc/net/*) return ;; esac # a link to whichever process asks
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
                queue link none "$here"
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
        [ -n "$followed" ] || return 0
    done
    way=
}

add() { # kind language path: a file, with every link on the way to it
    case $3 in *"$newline"* | *"$tab"*) return ;; esac
    case $1 in override | deployment)
        if [ -L "$root/${3#/}" ] && ! stays "${3#/}"; then
            resolve "${3%/*}"
            queue link none "$way/${3##*/}"
            return
        fi
        ;;
    esac
    resolve "$3"
    if [ -n "$way" ] && [ -f "$root/$way" ]; then queue "$1" "$2" "$way"; fi
}

stays() { # whether a link leads to a file in its own folder that belongs to the account that the link belongs to
    case $(readlink "$root/$1") in */* | .. | '') return 1 ;; esac
    owner=$(ls -ldn "$root/$1" | awk '{ print $3 }')
    [ "$owner" = "$(ls -ldn "$root/${1%/*}/$(readlink "$root/$1")" 2>/dev/null | awk '{ print $3 }')" ]
}

queue() { # kind language path
    case $3 in *"$newline"* | *"$tab"*) return ;; esac
    printf '%s\t%s\t%s\n' "$1" "$2" "$3" >>"$work/queue"
}

listing() { # a command whose output is names, a line each; names with a line end or tab in them are only counted
    "$@" 2>/dev/null
}

each() { # kind language pattern
    case $3 in
    *'**/'*)
        set +f
        old=$IFS
        IFS=$newline
        for start in $root/${3%%/\*\**}; do
            [ -d "$start" ] || continue
            find "$start" -maxdepth 7 \( -type f -o -type l \) -name "${3##*/}" ! -name "*$newline*" ! -name "*$tab*" 2>/dev/null
        done
        ;;
    *)
        set +f
        old=$IFS
        IFS=$newline
        for found in $root/$3; do
            if [ -f "$found" ] || [ -L "$found" ]; then printf '%s\n' "$found"; fi
        done
        ;;
    esac >"$work/found"
    set -f
    IFS=$old
    while IFS= read -r found; do add "$1" "$2" "${found#"$root"}"; done <"$work/found"
}

closed() { # a folder that may not be looked into
    if [ -d "$root/$1" ] && [ ! -x "$root/$1" -o ! -r "$root/$1" ]; then
        printf '%s\t%s\n' "$1" "the folder may not be listed" >>"$unread"
    fi
}

language_of() { # name otherwise
    case $(printf '%s' "$1" | tr 'A-Z' 'a-z') in
    *.xml) echo xml ;;
    *.properties | *.security) echo properties ;;
    *.html | *.htm | *.jsp) echo page ;;
    rewrite.config | .htaccess) echo apache ;;
    *.pem | *.crt | *.cer | *.key | *.der | *.p8 | *.p12 | *.pfx | *.jks | *.keystore) echo credential ;;
    *.cnf) echo openssl ;;
    *.timer | *.service) echo unit ;;
    *.yml | *.yaml) echo yaml ;;
    *.ini) echo ini ;;
    *) echo "$2" ;;
    esac
}

# --- what leaves of a certificate or key

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
    if [ -n "$has_openssl" ]; then
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
            if (tag ~ /^Host[ \t\r\n\/>]/) base = file == "" ? "webapps" : file
            if (base == "") base = "webapps"
            if (tag ~ /^Context[ \t\r\n]/ && (file = value(tag, "docBase")) != "" && file !~ /[$\t\n]/) print "application\t" (file ~ /^\// ? file : base "/" file)
            if (tag !~ /^(Connector|SSLHostConfig|Certificate)[ \t\r\n]/) continue
            word = either(tag, "certificateKeystorePassword", "keystorePass")
            if (tag !~ /^Certificate/) above = word
            if (word == "") word = above
            file = either(tag, "certificateFile", "SSLCertificateFile"); if (file != "" && file !~ /[$\t\n]/) print "credential\t" file
            file = either(tag, "certificateKeyFile", "SSLCertificateKeyFile"); if (file != "" && file !~ /[$\t\n]/) print "credential\t" file
            file = either(tag, "certificateKeystoreFile", "keystoreFile")
            sub(/^file:/, "", file)
            if (file != "" && file !~ /[$\t\n]/ && word !~ /[\t\n]/) print "store\t" file "\t" (word == "" ? "changeit" : word)
        }
    }' "$1"
}

certificates_in() { # a key store that STORE_PASSWORD opens: those that belong to its first key, as PEM
    if [ -n "$has_openssl" ]; then
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
    STORE_PASSWORD=$(awk -F "$tab" '$1 == ENVIRON["STORE_PATH"] { print $2; exit }' "$work/stores")
    [ -n "$STORE_PASSWORD" ] || return 0
    export STORE_PASSWORD
    chain=$(certificates_in "$root/$1")
    if [ -n "$chain" ]; then
        printf '%s\n' "$chain"
        if [ -n "$has_openssl" ] && [ -z "$(public_half "$root/$1" STORE)" ]; then
            describe "$root/$1" STORE "$(printf '%s\n' "$chain" | openssl x509 -pubkey -noout 2>/dev/null)"
        else
            describe "$root/$1" STORE
        fi
    fi
    unset STORE_PASSWORD
}

is_store() { # a PKCS #12 store, whether its password is known or not
    case $(openssl pkcs12 -in "$1" -passin pass: -noout 2>&1 </dev/null && echo opened) in
    *opened* | *[Mm]ac\ verify* | *invalid\ password*) return 0 ;;
    esac
    return 1
}

recognized() { # of a file of certificates and keys: path; certificates and parameters made anew, keys described, nothing else
    if tr -d '\000-\010\016-\037\177' <"$1" | cmp -s - "$1"; then
        blocks=$(grep -c -e '-----BEGIN [A-Z0-9. ]*CERTIFICATE-----' -e '-----BEGIN [A-Z0-9. ]*DH PARAMETERS-----' "$1")
        number=0
        while [ -n "$has_openssl" ] && [ "$number" -lt "$blocks" ] && [ "$number" -lt 1000 ]; do
            number=$((number + 1))
            block=$(awk -v wanted="$number" '
                /-----BEGIN [A-Z0-9. ]*(CERTIFICATE|DH PARAMETERS)-----/ { inside = ++count == wanted; sub(/^.*-----BEGIN/, "-----BEGIN") }
                inside { print }
                /-----END / { if (inside) exit }' "$1")
            case $block in
            *"DH PARAMETERS"*) printf '%s\n' "$block" | openssl dhparam 2>/dev/null ;;
            *) printf '%s\n' "$block" | openssl x509 2>/dev/null || return 0 ;;
            esac
        done
        if grep -qi 'private *key' "$1"; then describe "$1"; fi
    elif [ -n "$has_openssl" ] && ! is_store "$1"; then
        openssl x509 -inform DER -in "$1" -passin pass: 2>/dev/null </dev/null && return
        if openssl pkey -inform DER -in "$1" -passin pass: -noout 2>/dev/null </dev/null; then describe "$1" DER; fi
    fi
}

# --- what leaves

left_out() { # path why
    printf '%s\t%s\n' "$1" "$2" >>"$unread"
}

room_for() { # a path in the tree: its folders. No link is ever made there, so nothing is written through one
    case $1 in */*) [ -d "$tree/${1%/*}" ] || mkdir -p "$tree/${1%/*}" ;; esac
}

store() { # kind language path; texts to be masked are listed, and done together
    file=$root/$3
    case $1 in link) return ;; esac
    case $2 in none)
        if [ "$1" = names ]; then left_out "$3" "of site content only names are taken"
        else left_out "$3" "left out when the snapshot was taken: not needed, only its name"; fi
        return
        ;;
    esac
    if [ ! -f "$file" ] || [ -L "$file" ]; then return; fi
    if [ ! -r "$file" ]; then
        left_out "$3" "permission denied"
        return
    fi
    language=$2
    if [ "$language" != packages ] && [ -n "$(find "$file" -prune -size +$((MOST_BYTES / 512)) 2>/dev/null)" ]; then
        left_out "$3" "more than $MOST_BYTES bytes are not read"
        return
    fi
    if [ "$language" = unknown ]; then
        if grep -q -e '-----BEGIN ' "$file" || [ "$(dd if="$file" bs=1 count=1 2>/dev/null)" = 0 ]; then language=credential; else language=map; fi
    fi
    room_for "$3"
    case $language in
    accounts)
        awk -F: 'BEGIN { OFS = ":" } NF >= 7 { $2 = "x"; $5 = ""; print; next } NF == 4 { $2 = "x"; print; next } { print "" }' "$file" >"$tree/$3"
        ;;
    packages)
        awk -v RS= -v ORS='\n\n' '/^(Package: |.*\nPackage: |P:|.*\nP:)(@PACKAGES@)(\n|$)/ {
            n = split($0, row, "\n"); s = ""
            for (i = 1; i <= n; i++) if (row[i] ~ /^(Package|Status|Version|Architecture|P|V|A): ?[A-Za-z0-9_.:+~ -]*$/) s = s (s == "" ? "" : "\n") row[i]
            print s }' "$file" >"$tree/$3"
        ;;
    sockets)
        { echo "  sl  local_address rem_address   st"; awk '$4 == "0A" { print "   " $1, $2, $3, $4 " " }' "$file"; } >"$tree/$3"
        ;;
    page)
        words=
        while IFS= read -r words; do
            ! grep -qF "$words" "$file" || break
            words=
        done <<'EOF'
@PAGES@
EOF
        if [ -n "$words" ]; then printf '%s' "$words" >"$tree/$3"
        else left_out "$3" "left out when the snapshot was taken: site content, only its name"; fi
        ;;
    credential)
        STORE_PATH=$3
        export STORE_PATH
        opened=$(open_store "$3")
        [ -n "$opened" ] || opened=$(recognized "$file")
        if [ -n "$opened" ]; then printf '%s\n' "$opened" >"$tree/$3"
        else left_out "$3" "left out when the snapshot was taken: not recognized, only its name"; fi
        ;;
    *)
        if tr -d '\000-\010\016-\037\177' <"$file" | cmp -s - "$file"; then
            printf '%s\t%s\t%s\n' "$language" "$file" "$tree/$3" >>"$work/texts"
        else
            left_out "$3" "left out when the snapshot was taken: not text, only its name"
        fi
        ;;
    esac
}

rights() { # standard input: paths; their rows of the manifest, with the folders on the way
    awk '{ print; while (sub(/\/[^\/]*$/, "")) print } END { print "" }' | awk '!seen[$0]++' | while IFS= read -r path; do
        printf '%s\0' "$root/$path"
    done | xargs -0 ls -ld 2>/dev/null | ROOT_FOLDER=$root/ awk '
    function bits(text, special,   n) {
        n = (substr(text, 1, 1) == "r") * 4 + (substr(text, 2, 1) == "w") * 2
        return n + (substr(text, 3, 1) ~ "[x" special "]")
    }
    function vis(text,   made, c) { # as mtree(5) has it: a backslash and three octal digits for what could end a word
        made = ""
        while (match(text, /[\001-\040\\#\177]/)) {
            c = substr(text, RSTART, 1); made = made substr(text, 1, RSTART - 1) octal[c]; text = substr(text, RSTART + 1)
        }
        return made text
    }
    BEGIN { for (i = 1; i < 128; i++) octal[sprintf("%c", i)] = sprintf("\\%03o", i)
        root = ENVIRON["ROOT_FOLDER"]; print "#mtree" }
    {
        at = index($0, " " root)
        if (!at) next
        path = substr($0, at + 1 + length(root)); type = "file"; link = ""
        if ($1 ~ /^d/) type = "dir"
        if ($1 ~ /^l/) { type = "link"; cut = index(path, " -> "); link = " link=" vis(substr(path, cut + 4)); path = substr(path, 1, cut - 1) }
        mode = (substr($1, 4, 1) ~ /[sS]/) * 4 + (substr($1, 7, 1) ~ /[sS]/) * 2 + (substr($1, 10, 1) ~ /[tT]/)
        row = sprintf("%d%d%d%d", mode, bits(substr($1, 2, 3), "s"), bits(substr($1, 5, 3), "s"), bits(substr($1, 8, 3), "t"))
        user = ($3 ~ /^[0-9]+$/) ? "uid=" $3 : "uname=" $3
        group = ($4 ~ /^[0-9]+$/) ? "gid=" $4 : "gname=" $4
        print (path == "" ? "." : "./" vis(path)) " type=" type " mode=" row " " user " " group (type == "file" ? " size=" $5 : "") link
        if ($1 ~ /^..........[+]/) print path >(ENVIRON["WORK"] "/listed")
    }'
}

access_lists() { # of the files that have one
    [ -f "$work/listed" ] || return 0
    while IFS= read -r path; do
        if command -v getfacl >/dev/null 2>&1; then
            said=$(getfacl -c -E -p -- "$root/$path" 2>/dev/null | grep . | tr '\n' ',')
        else
            said='?'
        fi
        printf '%s\t%s\n' "$path" "$said"
    done <"$work/listed"
}

named() { # standard input: configurations (language, path); the files and folders that they name
    ROOT_FOLDER=$root/ awk -F "$tab" '
    function base(path,   rest) { # where relative names of a configuration start
        if (path ~ /^etc\/[^\/]+\//) { rest = substr(path, 5); sub(/\/.*/, "", rest); return "etc/" rest }
        sub(/\/[^\/]*$/, "", path)
        return path
    }
    {
        from = base($2); file = ENVIRON["ROOT_FOLDER"] $2
        while ((getline line < file) > 0) {
            if (line ~ /^[ \t]*#/) continue
            gsub(/["\047]/, " ", line)
            parts = split(line, part, /[;{}]/)
            for (p = 1; p <= parts; p++) {
                if (split(part[p], w, /[ \t\r]+/) < 2) continue
                k = w[1] == "" ? 2 : 1
                word = tolower(w[k]); name = w[k + 1]
                if (name == "" || name ~ /[$\t]/) continue
                kind = ""
                if (word ~ /^(include|includeoptional)$/) kind = "configuration\t" $1
                else if (word ~ /^(ssl_certificate|ssl_certificate_key|ssl_dhparam|sslcertificatefile|sslcertificatekeyfile|sslcertificatechainfile)$/) kind = "credential\tcredential"
                else if (word ~ /^(script)?alias$/ && $1 == "apache") { name = w[k + 2]; kind = "root\tnone" }
                else if (word ~ /^(root|alias|documentroot)$/) kind = "root\tnone"
                else if (word ~ /^virtualdocumentroot(ip)?$/ && sub(/[^\/]*%.*$/, "", name)) kind = "root\tnone"
                else if (word == "rewritemap") { name = w[k + 2]; if (sub(/^(txt|rnd):/, "", name)) kind = "configuration\tmap" }
                if (kind != "" && name != "") print kind "\t" (name ~ /^\// ? name : "/" from "/" name)
            }
        }
        close(file)
    }'
}

home_of() { # where relative names of a Tomcat start: above its conf folder; on Debian in the folder that links to it
    folder=${1%/*}
    case $folder in
    */conf) echo "/${folder%/conf}" ;;
    *) for home in "var/lib/${folder##*/}" "usr/share/${folder##*/}" "$folder"; do [ -d "$root/$home" ] && break; done; echo "/$home" ;;
    esac
}

application() { # of a Tomcat: its own configuration, and the names below it
    for own in WEB-INF/web.xml META-INF/context.xml; do add configuration xml "$1/$own"; done
    add configuration apache "$1/WEB-INF/rewrite.config"
    for page in index.jsp index.html; do add configuration page "$1/$page"; done
    names_below "$1"
}

names_below() { # a document root
    resolve "$1"
    [ -n "$way" ] && [ -d "$root/$way" ] || return 0
    site=$way
    grep -Fqx -e "$site" "$work/roots" && return 0
    printf '%s\n' "$site" >>"$work/roots"
    find "$root/$site" -maxdepth 65 \( -type f -o -type l \) 2>/dev/null | sed $((MOST_NAMES + 1))q >"$work/below"
    if [ "$(wc -l <"$work/below")" -gt "$MOST_NAMES" ] || [ -n "$(find "$root/$site" -mindepth 66 2>/dev/null | sed 1q)" ] ||
        [ -n "$(find "$root/$site" \( -name "*$newline*" -o -name "*$tab*" \) 2>/dev/null | sed 1q)" ]; then
        left_out "$site" "more than $MOST_NAMES names, folders more than 64 deep, or names with a line end"
        return 0
    fi
    while IFS= read -r found; do
        case $found in */.htaccess) add override apache "${found#"$root"}" ;; *) queue names none "${found#"$root"/}" ;; esac
    done <"$work/below"
}

strays() { # deployment files, stores and keys where people leave them: as rupex.host.facts.search looks for them
    set +f
    for top in $root/* $root/.[!.]*; do
        case ${top##*/} in bin | boot | dev | etc | lib | lib32 | lib64 | libx32 | lost+found | media | mnt | proc | run | sbin | sys | usr | var | .git) ;;
        *) [ -d "$top" ] && [ ! -L "$top" ] && printf '%s\n' "$top" ;;
        esac
    done >"$work/tops"
    set -f
    for top in etc/docker var/tmp var/backups usr/local/etc @FOLDERS@; do
        [ -d "$root/$top" ] && printf '%s\n' "$root/$top" >>"$work/tops"
    done
    while IFS= read -r top; do
        find "$top" -maxdepth 4 \( -name node_modules -o -name .git -o -name .cache -o -name __pycache__ -o -name site-packages \
            -o -name .venv -o -name venv \) -prune -o -type f ! -name "*$newline*" ! -name "*$tab*" \( \
            -name '*.key' -o -name '*.key[.~]*' -o -name '*.pem' -o -name '*.pem[.~]*' -o -name '*.p8' -o -name '*.pk8' \
            -o -name 'id_[red]*' -o -name 'privkey*' -o -name 'acme*.json' -o -name '*compose*.y*ml' -o -name 'docker-stack*.y*ml' \
            -o -name '.env' -o -name '.env.*' -o -name '*.env' -o -name 'Dockerfile*' -o -name 'Containerfile*' -o -name '*.tfvars' \
            -o -name 'values*.y*ml' -o -name 'secret*.y*ml' -o -name 'vars*.y*ml' @DEPLOYMENT@ \
            \) -print 2>/dev/null
    done <"$work/tops" | sed 1000q >"$work/strays"
    while IFS= read -r found; do
        case ${found##*/} in
        *.y*ml) add deployment yaml "${found#"$root"}" ;;
        acme*.json) add deployment none "${found#"$root"}" ;;
        *.env | .env* | Dockerfile* | Containerfile* | *.tfvars) add deployment environment "${found#"$root"}" ;;
        *) add credential credential "${found#"$root"}" ;;
        esac
    done <"$work/strays"
}

# --- the machine's own facts

facts() {
    while read -r name program arguments; do
        [ -x "$program" ] || continue
        version=$("$program" $arguments 2>&1 </dev/null | sed -n 's/^[^0-9]*\([0-9][0-9]*\.[0-9][0-9]*\.[0-9][0-9]*\).*/\1/p' | sed 1q)
        [ -n "$version" ] && printf '%s\t%s\n' "$name" "$version"
    done >"$tree/rupex/versions.tsv" <<'EOF'
@PROGRAMS@
EOF
    booted=$(sed -n 's/^btime //p' /proc/stat 2>/dev/null)
    ticks=$(getconf CLK_TCK 2>/dev/null || echo 100)
    set +f
    for process in /proc/[0-9]*; do
        [ -n "$booted" ] || break
        said=$(cat "$process/stat" 2>/dev/null) || continue
        name=${said#*\(}
        name=${name%\)*}
        case $name in @PROCESSES@) ;; *) continue ;; esac
        started=$(printf '%s\n' "${said##*\) }" | awk -v b="$booted" -v t="$ticks" '{ printf "%d", b + $20 / t }')
        started=$(date -u -d "@$started" +%Y-%m-%dT%H:%M:%S+00:00 2>/dev/null || date -u -r "$started" +%Y-%m-%dT%H:%M:%S+00:00)
        printf '%s\t%s\t%s\t%s\n' "${process#/proc/}" "$name" "$(ls -ld "$process" | awk '{ print $3 }')" "$started"
    done >"$tree/rupex/processes.tsv"
    set -f
    if [ "$(id -u)" -eq 0 ]; then
        PATH=$PATH:/usr/sbin:/sbin
        nft list ruleset >"$work/nft" 2>/dev/null || : >"$work/nft"
        [ -s "$work/nft" ] || iptables-save >"$work/iptables" 2>/dev/null || :
        for rules in nft iptables; do
            [ -s "$work/$rules" ] && printf 'rules\t%s\t%s\n' "$work/$rules" "$tree/rupex/$rules.rules" >>"$work/texts"
        done
    fi
}

# --- what is taken

while read -r kind language pattern; do
    [ -n "$kind" ] || continue
    each "$kind" "$language" "$pattern"
done <<'ROWS'
@ROWS@
ROWS
for folder in etc/ssl/private etc/letsencrypt/live etc/letsencrypt/archive etc/pki/tls/private root var/spool/cron; do closed "$folder"; done

round=0
while [ "$round" -lt 6 ]; do
    round=$((round + 1))
    awk -F "$tab" -v OFS="$tab" '$1 == "configuration" && ($2 == "nginx" || $2 == "apache" || $3 ~ /(^|\/)(server|[^\/]+\/[^\/]+\/[^\/]+)\.xml$/) && !seen[$3]++ { print $2, $3 }' \
        "$work/queue" | grep -Fvx -f "$work/done" >"$work/todo" || break
    cat "$work/todo" >>"$work/done"
    while IFS=$tab read -r language config; do
        [ -r "$root/$config" ] || continue
        case $config in
        server.xml | */server.xml) home=$(home_of "$config") ;;
        */conf/*/*/*.xml) home=/${config%/conf/*} ;;
        etc/tomcat*/*/*/*.xml) home=${config#etc/} home=/var/lib/${home%%/*} ;;
        *) continue ;;
        esac
        named_in_xml "$root/$config" >"$work/tomcat"
        for other in tomcat-users.xml web.xml context.xml catalina.properties; do add configuration "$(language_of "$other" none)" "/${config%/*}/$other"; done
        while IFS=$tab read -r what word password; do
            case $word in /*) ;; *) word=$home/$word ;; esac
            case $what in
            credential) add credential credential "$word" ;;
            store)
                add credential credential "$word"
                printf '%s\t%s\n' "$way" "$password" >>"$work/stores"
                ;;
            application) application "$word" ;;
            applications)
                set +f
                old=$IFS
                IFS=$newline
                for found in $root$word/*; do [ -d "$found" ] && printf '%s\n' "$found"; done >"$work/applications"
                IFS=$old
                set -f
                while IFS= read -r found; do application "${found#"$root"}"; done <"$work/applications"
                ;;
            esac
        done <"$work/tomcat"
    done <"$work/todo"
    named <"$work/todo" >"$work/named"
    while IFS=$tab read -r kind language word; do
        if [ "$kind" = root ]; then
            names_below "$word"
            continue
        fi
        set +f
        old=$IFS
        IFS=$newline
        for found in $root$word; do
            if [ -d "$found" ]; then
                for inner in "$found"/*; do [ -f "$inner" ] && printf '%s\n' "$inner"; done
            else
                printf '%s\n' "$found"
            fi
        done >"$work/found"
        IFS=$old
        set -f
        while IFS= read -r found; do add "$kind" "$language" "${found#"$root"}"; done <"$work/found"
    done <"$work/named"
done

strays
awk -F "$tab" '!seen[$3]++' "$work/queue" | sed ${MOST_ITEMS}q >"$work/items"
: >"$work/texts"
# What store runs may ask for a password on standard input, which is not where the list may be.
while IFS=$tab read -r kind language file <&3; do store "$kind" "$language" "$file" </dev/null; done 3<"$work/items"
[ -z "$root" ] && facts
awk -v TABLES="$work/tables" -f "$work/program" <"$work/texts" || exit 4
WORK=$work
export WORK
awk -F "$tab" '{ print $3 }' "$work/items" | rights >"$tree/manifest.mtree" || exit 4
# A copy of a host may bring the owners and modes along that it lost; they hold against those of the copy.
if [ -n "$root" ] && [ -f "$root/manifest.mtree" ]; then
    awk '/^(\.|\/set|\/unset|[^# ]*\/)/ {
        row = $1; for (i = 2; i <= NF; i++) if ($i ~ /^(type|mode|uname|gname|uid|gid|time)(=[A-Za-z0-9_.-]*)?$/) row = row " " $i
        print row }' "$root/manifest.mtree" >>"$tree/manifest.mtree"
fi
access_lists >"$tree/rupex/access.tsv"

(cd "$tree" && tar cf - .) | gzip -9 >"$out" || exit 4
[ -s "$out" ] && gzip -t "$out" || exit 4
is_done=1
echo "$out written: $(wc -l <"$work/items" | tr -d ' ') items, no private key. Audit it elsewhere: rupex audit ${out##*/}"
count=$(grep -c 'permission denied\|may not be' "$unread")
if [ "$count" -gt 0 ]; then
    echo "$count could not be read (see rupex/unread.tsv in it); run it as root to take them too." >&2
    exit 3
fi
