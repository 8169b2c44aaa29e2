# Texts as they may leave a machine, for the script that collects a snapshot: the same lists and rules as rupex.masking, in
# POSIX awk. Standard input: a line a file, its language, its path and the path to write, separated by tabs. TABLES: the lists.
# Where this cannot do what the command does, it masks more.

BEGIN {
    FS = "\t"
    CORE = "(passwo?r?d|passphrase|pass|secret|token|(api|access|auth|private|signing|encryption)[_-]?key|client[_-]key[_-]data|credential)"
    while ((getline row < TABLES) > 0) {
        split(row, cell, "\t")
        if (cell[1] == "class") { n = split(cell[3], item, " "); for (k = 1; k <= n; k++) class[cell[2] "\t" item[k]] = cell[4] }
        else if (cell[1] == "usual") usual[cell[2]] = cell[3]
        else if (cell[1] == "variable") variable[cell[2]] = "^(" cell[3] ")"
        else if (cell[1] == "word") { n = split(cell[3], item, " "); for (k = 1; k <= n; k++) word_of[cell[2] "\t" item[k]] = 1 }
        else { n = ++shapes[cell[1]]; shape[cell[1], n] = "^(" cell[3] ")$"; longest[cell[1], n] = cell[4] }
    }
    close(TABLES)
}

{
    language = $1; target = $3; held = 0; split("", secret_kind); in_key = 0; pending = 0
    printf "" > target
    begin()
    while ((getline line < $2) > 0) take(hold(line))
    finish()
    close($2); close(target)
}

function put(text) { printf "%s", text > target }
function is(list, word) { return (list "\t" word) in word_of }
function min(a, b) { return a < b ? a : b }

# --- one value

function plain(text) { return text !~ /[A-Za-z0-9]/ }

function has_shape(text, group,   rest, run, n) {
    rest = text
    while (match(rest, /[A-Za-z0-9]+/)) { # a long run with a digit in it is a token in the clothes of a name
        run = substr(rest, RSTART, RLENGTH); rest = substr(rest, RSTART + RLENGTH)
        if (length(run) >= 20 && run ~ /[0-9]/) return 0
    }
    for (n = 1; n <= shapes[group]; n++) if (length(text) <= longest[group, n] && text ~ shape[group, n]) return 1
    return 0
}

function safe_word(text) { return plain(text) || is("keyword", tolower(text)) || has_shape(text, "shape") }

function safe_token(token,   at, left) {
    while (token ~ /^[]["'()<>{}!^$]/) token = substr(token, 2)
    while (token ~ /[]["'()<>{}!^$]$/) token = substr(token, 1, length(token) - 1)
    if (safe_word(token)) return 1
    if ((language == "script" || language == "unit" || language == "ini") && has_shape(token, "option")) return 1
    if (!(at = index(token, "="))) return 0
    left = substr(token, 1, at - 1)
    return (left == "" || is("keyword", tolower(left)) || has_shape(left, "option")) && safe_word(substr(token, at + 1))
}

function looks_safe(text,   n, part, k) {
    n = split(text, part, /[ \t\r\n,;|]+/)
    for (k = 1; k <= n; k++) if (!safe_token(part[k])) return 0
    return 1
}

function plain_pattern(text,   run) {
    gsub(/\\[A-Za-z]/, " ", text); gsub(/\[[^]]*[]]/, " ", text); gsub(/[{][0-9,]*[}]/, " ", text); gsub(/[(][?][a-z:!=<]*/, " ", text)
    while (match(text, /[A-Za-z0-9_-]+/)) {
        run = substr(text, RSTART, RLENGTH); text = substr(text, RSTART + RLENGTH)
        if (length(run) > 1 && !is("keyword", tolower(run))) return 0
    }
    return 1
}

function is_safe(text, how) {
    if (how == "all") return 1
    if (how == "plain") return plain(text)
    if (how == "look") return looks_safe(text)
    if (how == "test") return looks_safe(text) || plain_pattern(text)
    if (how == "parts") { gsub(/^ +| +$/, "", text); return plain(text) || tolower(text) == "basic" || tolower(text) == "bearer" }
    if (how == "setting") return plain(text) || has_shape(text, "boolean")
    if (how == "never") return 0
    if (how == "compare") return text == ""
    return plain(text) || has_shape(text, how)
}

function mark(kind, value, compared) {
    if (compared) {
        if (value in secret_kind) kind = secret_kind[value]
        if (value in equal && index(equal[value], kind "-") == 1) return equal[value]
    }
    kind = kind "-" (++marks)
    if (compared) equal[value] = kind
    return kind
}

function lines_in(text) { return gsub(/\n/, "\n", text) }
function newlines(n,   s) { s = ""; while (n-- > 0) s = s "\n"; return s }
function masked(text, compared) { return mark("rupex-masked", text, compared) newlines(lines_in(text)) }

function each(text, how, compared,   pos, start, c, made, first, len) {
    made = ""; pos = start = 1; first = 1
    while (pos <= length(text)) {
        c = substr(text, pos, 1); len = 0
        if (c == "\001") { match(substr(text, pos), /^\001[0-9]+\002/); len = RLENGTH }
        else if (c == "r" && match(substr(text, pos), /^rupex-(secret|factory-secret|masked)-[0-9]+/)) len = RLENGTH
        else if ((c == "$" || c == "%") && how != "never" && language in variable && match(substr(text, pos), variable[language])) len = RLENGTH
        if (len < 1) { pos++; continue }
        if (pos > start) made = made literal(substr(text, start, pos - start), how, compared, !first, 1)
        first = 0
        if (c == "\001") { c = substr(text, pos + 1, len - 2); made = made mark(held_kind[c], held_value[c], compared) }
        else made = made substr(text, pos, len)
        start = pos = pos + len
    }
    if (start <= length(text)) made = made literal(substr(text, start), how, compared, !first, 0)
    return made
}

function literal(text, how, compared, is_behind, is_before,   head, tail, core) {
    if (is_safe(text, how)) return text
    core = text; head = tail = ""
    if (is_behind && match(core, /^[^A-Za-z0-9_]+/)) { head = substr(core, 1, RLENGTH); core = substr(core, RLENGTH + 1) }
    if (is_before && match(core, /[^A-Za-z0-9_]+$/)) { tail = substr(core, RSTART); core = substr(core, 1, RSTART - 1) }
    return core == "" ? text : head masked(core, compared) tail
}

function between(text, set,   made, piece) { # what stands between the characters of a set, variables and marks left as they are
    made = ""
    while (text != "") {
        if (match(text, "^[" set "]+") || match(text, /^\001[0-9]+\002/) || (text ~ /^[$%]/ && language in variable && match(text, variable[language]))) {
            piece = substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1)
            made = made (piece ~ /^\001/ ? each(piece, "plain", 0) : piece)
            continue
        }
        match(text, "^[^" set "\001$%]+"); if (RLENGTH < 1) RLENGTH = 1
        piece = substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1)
        made = made (plain(piece) ? piece : masked(piece, 0))
    }
    return made
}

# A call may match something of its own: RSTART and RLENGTH are kept (at, n) before one.

function place(text,   head, at, n) {
    if (index(text, "\n") || (text ~ /[ \t\r]/ && text !~ /^([a-z]+:\/\/|\/)/)) return each(text, "look", 0)
    head = ""
    if (match(text, /^([a-z][a-z0-9+.-]*:)?\/\/[^\/?#@]*@/)) {
        at = RLENGTH; match(text, /^([a-z][a-z0-9+.-]*:)?\/\//)
        n = RLENGTH; head = substr(text, 1, n) between(substr(text, n + 1, at - n), "@:"); text = substr(text, at + 1)
    }
    if (!match(text, /[?#]/)) return head each(text, "all", 0)
    at = RSTART
    return head each(substr(text, 1, at - 1), "all", 0) substr(text, at, 1) between(substr(text, at + 1), "&=;?#/+")
}

function header(name, text,   made, at, n) {
    if (name == "set-cookie") return cookie(text)
    if (is("place-header", name)) return place(text)
    if (!is("policy-header", name)) return each(text, "look", 1)
    made = ""
    while (match(text, /[?][^ \t\r\n;,'"]*/)) {
        at = RSTART; n = RLENGTH
        made = made each(substr(text, 1, at - 1), "all", 0) "?" between(substr(text, at + 1, n - 1), "&=;?#/+")
        text = substr(text, at + n)
    }
    return made each(text, "all", 0)
}

function cookie(text,   n, part, at, made, k, name) {
    n = split(text, part, ";"); at = index(part[1], "="); name = substr(part[1], 1, at - 1)
    if (!at) made = each(part[1], "look", 0)
    else if (length(name) < 64 && name ~ /^[ \t]*[!#$%&'*+.^_`|~A-Za-z0-9-]+[ \t]*$/)
        made = each(name, "all", 0) "=" each(substr(part[1], at + 1), "plain", 0)
    else made = each(part[1], "plain", 0)
    for (k = 2; k <= n; k++) {
        name = tolower(part[k]); sub(/=.*/, "", name); gsub(/[ \t]/, "", name)
        made = made ";" each(part[k], is("cookie-attribute", name) ? "all" : "plain", 0)
    }
    return made
}

function value(text, kind, name,   compared, at) {
    compared = sub(/=$/, "", kind)
    if (kind == "all" || kind == "look" || kind == "test" || kind == "setting" || kind == "kind" || kind == "image" || kind == "name" ||
        kind == "parts" || kind == "compare") return each(text, kind, compared || kind == "compare" || kind == "test")
    if (kind == "file") {
        if (text ~ /^data:/) return "data:" value(substr(text, 6), "never", "")
        return length(text) <= 512 ? place(text) : each(text, "never", 0)
    }
    if (kind == "place") return place(text)
    if (kind == "answer") return text ~ /^([a-z][a-z0-9+.-]*:\/\/|[\/$@]|[0-9]+$)/ ? place(text) : each(text, "look", 0)
    if (kind == "header") return header(name, text)
    if (kind == "request") return each(text, is("request-header", name) ? "look" : "parts", 0)
    if (kind == "assign" || kind == "pairs" || kind == "env") {
        if (!(at = index(text, "="))) return each(text, kind == "pairs" ? "look" : "name", 0)
        return each(substr(text, 1, at - 1), "name", 0) "=" each(substr(text, at + 1), kind == "env" ? "setting" : "look", kind == "assign")
    }
    if (kind == "defines") return defines(text)
    if (kind == "shutdown") return text == "SHUTDOWN" ? text : each(text, "plain", 0)
    return text == "" || text == "off" ? text : each(text, "never", compared)
}

function defines(text,   made, part, previous) { # the options that a server is started with: -D NAME says which sections hold
    made = previous = ""
    while (text != "") {
        if (match(text, /^[ \t]+/)) { made = made substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1); continue }
        match(text, /^[^ \t]+/); part = substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1)
        made = made (part == "-D" ? part : each(part, previous == "-D" || part ~ /^-D/ ? "name" : "look", 0))
        previous = part
    }
    return made
}

function compare(text, kind) { return kind == "all" ? each(text, "all", 0) : each(text, "test", 1) }
function kind_at(kinds, at,   n, part) { n = split(kinds, part, " "); return part[min(at, n)] }

# --- secrets: what is one by its name or place is held back

function names_secret(name,   low) {
    if (name ~ /([_-]([Ii][Dd]|[Rr][Ee][Ff])|[a-z](Id|Ref))$/) return 0
    low = tolower(name); gsub(/\./, "_", low)
    return low !~ /(file|path|dir|folder|url|uri|endpoint|name|type|length|size|expires?|expiry|ttl|lifetime|[_-](age|min|max|len|alg)|timeout|policy|header|algorithm|format|field|location|issuer|count|limit|required|enabled|prompt|tokens|secrets|passwords|credentials|method|schemes?|hint|alias|zone|dialog|agent)$/
}

function refers(text,   low) {
    low = tolower(text)
    if (low ~ /^[$%@!*<|>\/~[]/ || low ~ /^\.\.?\// || low ~ /^[{][{]/ || low ~ /^enc[(]/) return 1
    if (low ~ /^(file|exec|vault|env|secret|sops|arn|ref|op|https?|ssm|kms)[+:]/) return 1
    if (low ~ /^(null|none|nil|true|false|on|off|yes|no|required|optional|default|prompt|redacted|x+|all|any|full|prod|min(or|imal)?)$/) return 1
    return low ~ /^[0-9]+$/ && length(low) < 5
}

function keep(text, kind) {
    if (text ~ /^rupex-(secret|factory-secret|masked)-[0-9]+$/) return text
    if (kind == "") kind = is("factory", tolower(text)) ? "rupex-factory-secret" : "rupex-secret"
    held_value[++held] = text; held_kind[held] = kind; secret_kind[text] = kind
    return "\001" held "\002"
}

function keep_behind(line, pattern, skip, kind,   done, found, start, at, behind) {
    done = ""
    while (match(tolower(line), pattern)) {
        found = substr(line, RSTART, RLENGTH); start = RSTART
        if (match(tolower(found), skip)) {
            at = substr(found, RLENGTH + 1); behind = sub(/@$/, "", at) ? "@" : ""
            done = done substr(line, 1, start - 1) substr(found, 1, RLENGTH) (refers(at) ? at : keep(at, kind)) behind
        } else done = done substr(line, 1, start - 1) (length(found) < 12 ? found : keep(found, kind))
        line = substr(line, start + length(found))
    }
    return done line
}

function leads(text) {
    sub(/^.*[;{]/, "", text)
    sub(/^[ \t]*([Ss][Ee][Tt][ \t]+[$]?|([Ss]et[Ee]nv|[Pp]ass[Ee]nv|[Dd]efine|export|ENV|ARG|env)[ \t]+["']?|user[ \t]+[^ \t]+[ \t]+)/, "", text)
    return text ~ /^[ \t]*["']?$/
}

function keep_named(line,   done, low, from, to, name, rest, form, at, first, text, gap, behind) {
    done = ""
    while (match(tolower(line), CORE)) {
        from = RSTART; to = RSTART + RLENGTH
        low = substr(tolower(line), from, RLENGTH)
        while (substr(line, to, 1) ~ /[A-Za-z0-9_.-]/) to++
        while (from > 1 && substr(line, from - 1, 1) ~ /[A-Za-z0-9_.$-]/) from--
        name = substr(line, from, to - from); sub(/^[$.-]+/, "", name)
        rest = substr(line, to); form = 0
        if (names_secret(name)) {
            if (match(rest, /^["']?\]?[ \t]*[=:]>?[ \t]*/)) form = 1
            else if (match(rest, /^["'][ \t]+value[ \t]*=[ \t]*/)) form = 1
            else if (low != "pass" && match(rest, /^["']?[ \t]+/) && leads(done substr(line, 1, from - 1))) form = 2
        }
        gap = RLENGTH; text = ""
        if (form) {
            at = substr(rest, gap + 1); first = substr(at, 1, 1)
            if (first == "\"" || first == "'") {
                if (index(substr(at, 2), first)) { text = substr(at, 2, index(substr(at, 2), first) - 1); gap++ }
            } else if (match(at, /^[^ \t\r;,"'{}<>#&()]+/)) text = substr(at, 1, RLENGTH)
            behind = substr(rest, gap + length(text) + 1)
            if (form == 2 && behind !~ /^["']?[ \t\r]*(;|#|groups |$)/) text = ""
        }
        if (length(text) < 3 || refers(text) || text ~ /\001/) { done = done substr(line, 1, to - 1); line = rest; continue }
        done = done substr(line, 1, to - 1) substr(rest, 1, gap) keep(text, "")
        line = behind
    }
    return done line
}

function hold(line,   text, head, name) {
    gsub(/[\001\002]/, " ", line)
    if (in_key) { if (line ~ /-----END [A-Z0-9 ]*PRIVATE KEY-----/) { in_key = 0; sub(/^.*PRIVATE KEY-----/, "", line); return line } return "" }
    if (match(line, /-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----/)) {
        head = substr(line, 1, RSTART - 1); in_key = line !~ /-----END [A-Z0-9 ]*PRIVATE KEY-----/
        return hold_words(head) keep("a private key", "rupex-secret")
    }
    if (pending && match(line, /^[ \t]*["']?value["']?[ \t]*:[ \t]*/)) {
        text = substr(line, RLENGTH + 1); head = substr(line, 1, RLENGTH); gsub(/^["']|["'][ \t\r]*$/, "", text)
        if (length(text) > 2 && !refers(text)) line = head keep(text, "")
    }
    pending = 0
    if (match(tolower(line), /name["']?[ \t]*:[ \t]*["']?[a-z0-9_.-]+["']?[ \t\r]*$/)) {
        name = substr(line, RSTART); sub(/^[^:]*:[ \t]*["']?/, "", name); sub(/["']?[ \t\r]*$/, "", name)
        pending = tolower(name) ~ CORE && names_secret(name)
    }
    return hold_words(line)
}

function hold_words(line) {
    line = keep_behind(line, "authorization[\"']?[ \t:=]+[\"']?(basic|bearer|token)[ \t]+[^ \t\"';$]+", "^authorization[\"']?[ \t:=]+[\"']?(basic|bearer|token)[ \t]+", "")
    line = keep_behind(line, "^[ \t]*stats[ \t]+auth[ \t]+[^ \t:]+:[^ \t$]+", "^[ \t]*stats[ \t]+auth[ \t]+[^ \t:]+:", "")
    line = keep_behind(line, "://[^ \t/:@\"']*:[^ \t/@\"'$]+@", "^://[^ \t/:@\"']*:", "")
    line = keep_behind(line, "[$][$]?(apr1|2[abxy]|[156y]|argon2(id|i|d))[$][a-z0-9./_$=,+-]+", "^$", "rupex-masked")
    line = keep_behind(line, "[{](ssha|sha|sha256|sha512)[}][a-z0-9+/=]+", "^$", "rupex-masked")
    return keep_named(line)
}

# --- languages: take(line) for each line, finish() behind the last

function begin() { tokens = depth = lua = element_open = 0; quote = word = joined = buffer = element = parameter = setting = ""; block = -1; before = "" }

function take(line) {
    if (language == "nginx") nginx_line(line)
    else if (language == "apache") {
        joined = joined line
        if (line ~ /\\\r?$/) { joined = joined "\n"; return }
        put(apache_lines(joined) "\n"); joined = ""
    }
    else if (language == "xml") { buffer = buffer line "\n"; xml_parts(0) }
    else if (language == "yaml") put(yaml_line(line) "\n")
    else if (language == "script" || language == "map") put((line ~ /^[ \t]*#/ ? "#" : shell(line)) "\n")
    else if (language == "words") put((line ~ /^[ \t]*#/ ? "#" : each(line, "all", 0)) "\n")
    else if (language == "rules") put(rules_line(line) "\n")
    else put(setting_line(line) "\n")
}

function finish() {
    if (language == "nginx") { if (escaped != "") { token("bare", escaped); escaped = "" } if (quote != "") { token("open", quote word); quote = "" } put(nginx_directive()) }
    else if (language == "apache" && joined != "") put(apache_lines(joined))
    else if (language == "xml") xml_parts(1)
}

# nginx: tokens are kept until the end of their directive

function token(kind, text) { token_kind[++tokens] = kind; token_text[tokens] = text }
function is_word(k) { return token_kind[k] != "blank" && token_kind[k] != "comment" }

function nginx_line(line,   pos, rest, c, n, k, name, second) {
    pos = 1
    if (escaped != "") { # the line before ended in a backslash: its word goes on
        match(line, /^(\\.|[$][{]*|[^ \t\r;{\\$])*(\\$)?/); word = escaped substr(line, 1, RLENGTH); pos += RLENGTH; escaped = ""
        if (is_escaped(line, pos)) { escaped = word "\n"; word = ""; return }
        token("bare", word); word = ""
    }
    while (pos <= length(line)) {
        rest = substr(line, pos); c = substr(line, pos, 1)
        if (lua) {
            n = lua_part(rest)
            pos += n
            continue
        }
        if (quote != "") {
            n = 1
            while (n <= length(rest) && substr(rest, n, 1) != quote) n += substr(rest, n, 1) == "\\" ? 2 : 1
            word = word substr(rest, 1, n - 1)
            if (n <= length(rest)) { token(quote, word); quote = word = "" }
            pos += n
        } else if (match(rest, /^[ \t\r]+/)) { token("blank", substr(rest, 1, RLENGTH)); pos += RLENGTH }
        else if (c == "#") { token("comment", "#"); pos = length(line) + 1 }
        else if (c == ";" || c == "{" || c == "}") {
            name = ""; second = ""; n = 0
            for (k = 1; k <= tokens; k++) if (is_word(k)) { n++; if (n == 1) name = token_text[k]; if (n == 2) second = token_text[k] }
            put(nginx_directive() c)
            if (c == "}") { if (depth) depth-- }
            else if (c == "{" && name ~ /_by_lua_block$/) { lua = 1; lua_quote = "" }
            else if (c == "{") { block_name[++depth] = name; block_source[depth] = (n > 2) ? second : "" }
            pos++
        } else if (c == "\"" || c == "'") { quote = c; word = ""; pos++ }
        else {
            if (!match(rest, /^(\\.|[$][{]*|[^ \t\r;{\\$])*(\\$)?/) || RLENGTH < 1) RLENGTH = 1
            pos += RLENGTH
            if (is_escaped(line, pos)) { escaped = substr(rest, 1, RLENGTH) "\n"; return }
            token("bare", substr(rest, 1, RLENGTH))
        }
    }
    if (lua) { put("\n"); if (lua_quote ~ /^["'-]$/) lua_quote = "" }
    else if (quote != "") word = word "\n"
    else token("blank", "\n")
}

function is_escaped(line, pos,   n) { # whether what is read so far ends at the end of the line, in an odd number of backslashes
    if (pos <= length(line)) return 0
    n = length(line); while (n > 0 && substr(line, n, 1) == "\\") n--
    return (length(line) - n) % 2
}

function lua_part(rest,   c) { # how much of a Lua block is passed over; nothing of it leaves but its lines
    if (lua_quote ~ /^["']$/) {
        if (match(rest, /^\\./)) return 2
        if (substr(rest, 1, 1) == lua_quote) lua_quote = ""
        return 1
    }
    if (lua_quote == "-") return length(rest)
    if (lua_quote != "") {
        c = index(rest, lua_quote)
        if (!c) return length(rest)
        c += length(lua_quote) - 1; lua_quote = ""
        return c
    }
    if (match(rest, /^(--)?\[=*\[/)) {
        c = substr(rest, 1, RLENGTH); sub(/^--/, "", c); gsub(/\[/, "]", c); lua_quote = c
        return RLENGTH
    }
    if (rest ~ /^--/) { lua_quote = "-"; return length(rest) }
    c = substr(rest, 1, 1)
    if (c == "\"" || c == "'") lua_quote = c
    else if (c == "{") lua++
    else if (c == "}" && --lua == 0) put("}")
    return 1
}

function nginx_directive(   k, n, made, key, kinds, context, left, at, previous, source, subject, text, rest, blanks) {
    context = depth ? block_name[depth] : ""; made = ""; n = 0; key = kinds = previous = ""
    for (k = 1; k <= tokens; k++) if (is_word(k)) {
        n++; text = token_text[k]
        if (token_kind[k] == "open") left = each(text, "never", 0)
        else if (context == "types") left = each(text, "all", 0)
        else if (context == "map" || context == "geo" || context == "split_clients") {
            if (n == 1) key = text
            if (n == 1 && text != "include") {
                source = tolower(block_source[depth]); gsub(/[${}]/, "", source); if (source == "") source = "remote_addr"
                at = 0; if (substr(text, 1, 1) == "~") while (substr(text, at + 1, 1) ~ /[~*]/) at++
                left = substr(text, 1, at) compare(substr(text, at + 1), is("source", source) ? "all" : "test=")
            } else left = key == "include" ? (n == 1 ? text : value(text, "file", "")) : value(text, "look=", "")
        } else if (n == 1) {
            key = tolower(text)
            if (("nginx\t" key) in class) { kinds = class["nginx\t" key]; left = text } else { kinds = "look="; left = each(text, "look", 1) }
            if (("nginx\t" context "/" key) in class) kinds = class["nginx\t" context "/" key]
        } else if (kinds == "condition") {
            if (n == 2) { subject = tolower(text); gsub(/[(){}$]/, "", subject) }
            at = text; sub(/^[(]+/, "", at)
            if (substr(at, 1, 1) == "$" || text ~ /^([()]|!?=|!?~[*]?|[(]?!?-[fdex])$/) left = each(text, "all", 0)
            else {
                at = (text ~ /[)]$/ && gsub(/[)]/, ")", text) > gsub(/[(]/, "(", text)) ? ")" : ""
                left = compare(substr(text, 1, length(text) - length(at)), is("source", subject) ? "all" : "test=") at
            }
        } else if (kinds == "headers" || kinds == "requests") {
            at = index(text, ":")
            if (previous == "-s" || previous == "-t" || substr(text, 1, 1) == "-") left = each(text, "all", 0)
            else if (at) {
                rest = substr(text, at + 1); blanks = rest; sub(/[^ \t\n].*$/, "", blanks); source = tolower(substr(text, 1, at - 1)); gsub(/[ \t]/, "", source)
                left = each(substr(text, 1, at - 1), "name", 0) ":" blanks value(substr(rest, length(blanks) + 1), kinds == "headers" ? "header" : "request", source)
            } else left = each(text, "name", 0)
        } else left = value(text, kind_at(kinds, n - 1), tolower(previous))
        previous = text
        made = made (token_kind[k] ~ /^["']$/ ? token_kind[k] left token_kind[k] : left)
    } else made = made token_text[k]
    tokens = 0
    return made
}

# httpd

function apache_lines(text) { return text ~ /^([ \t\r\f\v]|\\\r?\n)*#/ ? apache_line(text) : continued(apache_line(text)) }

function continued(text,   part, n, k, made) { # what was continued still is, whatever stands for it
    n = split(text, part, /\\?\r?\n/); made = part[1]
    for (k = 2; k <= n; k++) made = made "\\\n" part[k]
    return made
}

function apache_line(line,   head, body, end, words, k, made, key, kinds, gap, rest) {
    match(line, /^([ \t\r\f\v]|\\\r?\n)*/); head = substr(line, 1, RLENGTH); body = substr(line, RLENGTH + 1)
    if (body ~ /^#/) return head "#" newlines(lines_in(body))
    end = ""
    if (match(body, /^<\/?[ \t]*/)) {
        head = head substr(body, 1, RLENGTH); body = substr(body, RLENGTH + 1)
        if (match(body, />[ \t\r]*$/)) { end = substr(body, RSTART); body = substr(body, 1, RSTART - 1) }
    }
    words = 0; rest = body
    while (rest != "") {
        match(rest, /^([ \t\r\f\v\n]|\\\r?\n)*/); gap = substr(rest, 1, RLENGTH); rest = substr(rest, RLENGTH + 1)
        if (match(rest, /^"([^"\\]|\\.|\\\n)*"/) || match(rest, /^'([^'\\]|\\.|\\\n)*'/)) {
            w_gap[++words] = gap; w_quote[words] = substr(rest, 1, 1); w_text[words] = substr(rest, 2, RLENGTH - 2)
        } else if (match(rest, /^[^ \t\r\n\f\v]+/)) {
            w_gap[++words] = gap; w_quote[words] = ""; w_text[words] = substr(rest, 1, RLENGTH)
        } else { rest = gap rest; break }
        rest = substr(rest, RLENGTH + 1)
    }
    if (!words) return head body end
    key = tolower(w_text[1])
    kinds = ("apache\t" key) in class ? class["apache\t" key] : ""
    if (kinds == "expression") {
        gap = length(w_gap[1] w_quote[1] w_text[1] w_quote[1])
        return head substr(body, 1, gap) expression(substr(body, gap + 1)) end
    }
    if (kinds == "") for (k = 1; k <= words; k++) w_made[k] = each(w_text[k], "look", 1)
    else { w_made[1] = w_text[1]; apache_arguments(kinds, words) }
    made = head
    for (k = 1; k <= words; k++) made = made w_gap[k] w_quote[k] w_made[k] w_quote[k]
    return made (plain(rest) ? rest : each(rest, "never", 0)) end
}

function apache_arguments(kinds, words,   k, kind, action, name, at, text, values) {
    if (kinds == "condition") {
        if (w_text[2] == "expr") { for (k = 2; k <= words; k++) w_made[k] = k == 2 ? "expr" : k == 3 ? expression(w_text[k]) : each(w_text[k], "look", 0); return }
        kind = asks_only_safe(w_text[2]) ? "all" : "test="
        for (k = 2; k <= words; k++) {
            if (k == 2) w_made[k] = kind == "all" ? each(w_text[k], "all", 0) : each(w_text[k], "look", 1)
            else if (k == 3) {
                text = w_text[k]
                if (!match(text, /^!?(-[a-zA-Z]+$|[<>=]+)?/)) RLENGTH = 0
                at = RLENGTH > 0 ? RLENGTH : 0
                w_made[k] = substr(text, 1, at) compare(substr(text, at + 1), kind)
            } else w_made[k] = each(w_text[k], "all", 0)
        }
        return
    }
    if (kinds == "header-line" || kinds == "request-line") {
        kind = kinds == "header-line" ? "header" : "request"; k = 2
        while (k <= words && tolower(w_text[k]) ~ /^(always|onsuccess|early)$/) { w_made[k] = w_text[k]; k++ }
        action = tolower(w_text[k]); name = tolower(w_text[k + 1]); sub(/:+$/, "", name)
        values = action == "edit" || action == "edit*" ? 2 : action == "unset" || action == "echo" ? 0 : 1
        for (at = k; at <= words; at++) {
            if (at < k + 2) w_made[at] = each(w_text[at], "name", 0)
            else if (at < k + 2 + values) w_made[at] = value(w_text[at], kind, name)
            else w_made[at] = w_text[at] ~ /^expr=/ ? expression(w_text[at]) : each(w_text[at], "all", 0)
        }
        return
    }
    if (kinds == "require") {
        at = tolower(w_text[2]) == "not" ? 3 : 2; kind = tolower(w_text[at])
        for (k = 2; k <= words; k++) {
            if (k <= at) w_made[k] = each(w_text[k], "name", 0)
            else if (kind == "expr") w_made[k] = expression(w_text[k])
            else w_made[k] = each(w_text[k], is("open-to", kind) ? "all" : "never", 0)
        }
        return
    }
    for (k = 2; k <= words; k++) {
        text = w_text[k]
        kind = kinds ~ /^last / ? (k == words ? substr(kinds, 6) : "all") : kind_at(kinds, k - 1)
        if (kind == "flags") w_made[k] = flags(text)
        else w_made[k] = value(text, kind, tolower(w_text[k - 1]))
    }
}

function flags(text,   n, part, k, made, at, end) {
    n = split(text, part, ","); made = ""
    for (k = 1; k <= n; k++) {
        if (match(tolower(part[k]), /^\[?[ \t]*(co|cookie)=(;[a-z0-9_.-]+;|[a-z0-9_.-]+:)/)) {
            at = RLENGTH; text = substr(part[k], at + 1); end = sub(/\]$/, "", text) ? "]" : ""
            made = made substr(part[k], 1, at); at = index(text, substr(part[k], at, 1))
            if (at) made = made each(substr(text, 1, at - 1), "look", 1) substr(text, at, 1) each(substr(text, at + 1), "all", 0) end
            else made = made each(text, "look", 1) end
        } else if (match(tolower(part[k]), /^\[?[ \t]*(e|env|co|cookie)=!?[a-z0-9_.-]+:/)) {
            at = RLENGTH; text = substr(part[k], at + 1)
            made = made substr(part[k], 1, at) (sub(/\]$/, "", text) ? each(text, "look", 1) "]" : each(text, "look", 1))
        } else made = made each(part[k], "all", 0)
        if (k < n) made = made ","
    }
    return made
}

function asks_only_safe(text,   count) {
    count = 0
    while (match(text, /%[{][^}]*[}]/)) {
        if (!is("source", tolower(substr(text, RSTART + 2, RLENGTH - 3)))) return 0
        count++; text = substr(text, RSTART + RLENGTH)
    }
    return count > 0
}

function expression(text,   made, part, n, k, q, core) {
    core = text; sub(/^[ \t]+/, "", core); sub(/[ \t]+$/, "", core); q = substr(core, 1, 1)
    if (length(core) > 1 && (q == "\"" || q == "'") && substr(core, length(core)) == q) {
        n = index(text, core)
        return substr(text, 1, n) expression(substr(core, 2, length(core) - 2)) substr(text, n + length(core) - 1)
    }
    made = ""
    while (match(text, /&&|[|][|]/)) {
        k = RSTART; made = made clause(substr(text, 1, k - 1)) substr(text, k, 2); text = substr(text, k + 2)
    }
    return made clause(text)
}

function clause(text,   made, c, n, at) {
    if (asks_only_safe(text)) return each(text, "all", 0)
    made = ""
    while (match(text, /'[^']*'|"[^"]*"|m#[^#]*#[a-z]*|m[|][^|]*[|][a-z]*|m![^!]*![a-z]*|[ \t~]\/([^\/\\]|\\.)*\/[a-z]*/)) {
        at = RSTART; n = RLENGTH; c = substr(text, at, n)
        made = made each(substr(text, 1, at - 1), "all", 0); text = substr(text, at + n)
        if (c ~ /^["']/) made = made substr(c, 1, 1) each(substr(c, 2, n - 2), "test", 1) substr(c, n)
        else { match(c, /[#|!\/][a-z]*$/); at = RSTART; made = made substr(c, 1, 2) each(substr(c, 3, at - 3), "test", 1) substr(c, at) }
    }
    return made each(text, "all", 0)
}

# lines

function quoted(text, kind,   made, c, n) { # what stands between blanks, and in quotes with its blanks
    made = ""
    while (text != "") {
        if (match(text, /^"[^"]*"/) || match(text, /^'[^']*'/)) {
            n = RLENGTH; c = substr(text, 1, 1); made = made c value(substr(text, 2, n - 2), kind, "") c
        } else if (match(text, /^[ \t\r\n\\,]+/)) { n = RLENGTH; made = made substr(text, 1, n) }
        else {
            n = match(text, /^[^ \t\r\n\\,"']+/) ? RLENGTH : 1
            made = made value(substr(text, 1, n), kind, "")
        }
        text = substr(text, n + 1)
    }
    return made
}

function shell(text,   made, part, at) {
    made = ""
    while (text != "") {
        if (match(text, /^[ \t\r\n;&|()"'`<>]+/)) { made = made substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1); continue }
        match(text, /^[^ \t\r\n;&|()"'`<>]+/); part = substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1); at = index(part, "=")
        if (at > 1 && at <= 61 && substr(part, 1, at - 1) ~ /^[A-Za-z_][A-Za-z0-9_]*$/) made = made substr(part, 1, at) value(substr(part, at + 1), "setting", "")
        else made = made value(part, usual[language], "")
    }
    return made
}

function setting_line(line,   bare, name, head, made) {
    bare = line; gsub(/^[ \t]+|[ \t\r]+$/, "", bare); name = setting
    if (setting != "") made = setting_value(setting, line)
    else if (bare ~ /^[#;!]/) made = substr(bare, 1, 1)
    else if (bare ~ /^\[/) made = (length(bare) <= 62 && bare ~ /^\[[A-Za-z0-9_. :-]+\]$/) ? line : quoted(line, "never")
    else if (line ~ /^[ \t]*\.include[ \t]/) made = quoted(line, "file")
    else if (match(line, /^[ \t]*((export|ENV|ARG|set|:)[ \t]+)?["']?([$][{])?[A-Za-z_.][A-Za-z0-9_.-]*["']?[ \t]*:?[=:][ \t]*/)) {
        head = substr(line, 1, RLENGTH); name = head
        sub(/^[ \t]*((export|ENV|ARG|set|:)[ \t]+)?["']?([$][{])?/, "", name); sub(/["']?[ \t]*:?[=:][ \t]*$/, "", name)
        if (language == "ini" ? ("ini\t" tolower(name)) in class || looks_safe(name) : length(name) <= 60) { setting = name; made = head setting_value(name, substr(line, length(head) + 1)) } else made = quoted(line, "never")
    } else made = quoted(line, language == "environment" ? "kind" : "look")
    if (line !~ /\\\r?$/) setting = ""
    return made
}

function setting_value(name, text,   key) {
    key = tolower(name)
    if (language == "unit" && key ~ /^exec/) return shell(text)
    return quoted(text, (language "\t" key) in class ? kind_at(class[language "\t" key], 1) : usual[language])
}

function yaml_line(line,   indent, head, rest, key) {
    match(line, /^ */); indent = RLENGTH
    if (block >= 0 && (line ~ /^[ \t\r]*$/ || indent > block)) return quoted(line, "never")
    block = -1
    match(line, /^[ \t]*(- +)*/); head = substr(line, 1, RLENGTH); rest = substr(line, RLENGTH + 1)
    if (rest ~ /^#/) return head "#"
    if (match(rest, /^["']?[A-Za-z_.\/][A-Za-z0-9_.\/-]*["']?[ \t]*:([ \t\r]|$)/)) {
        key = substr(rest, 1, RLENGTH); sub(/[ \t\r]$/, "", key); rest = substr(rest, length(key) + 1); head = head key
        gsub(/["' \t:]/, "", key)
        if (length(key) <= 60) {
            if (rest ~ /^[ \t]*[|>][+-]?[0-9]?[+-]?[ \t\r]*(#.*)?$/) block = indent
            return head yaml_value(tolower(key), rest)
        }
        return quoted(line, "never")
    }
    return head yaml_value("", rest)
}

function yaml_value(key, text,   kind, made, part, at, name) {
    kind = ("yaml\t" key) in class ? kind_at(class["yaml\t" key], 1) : usual["yaml"]
    if (match(text, /(^|[ \t])#/)) {
        part = substr(text, 1, RSTART - 1); at = RSTART
        if (gsub(/"/, "\"", part) % 2 == 0 && gsub(/'/, "'", part) % 2 == 0) text = substr(text, 1, at - 1)
    }
    made = ""
    while (text != "") {
        if (match(text, /^[][ \t\r,{}"']+/)) { made = made substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1); continue }
        if (!match(text, /^[^][ \t\r,{}"']+/)) RLENGTH = 1
        part = substr(text, 1, RLENGTH); text = substr(text, RLENGTH + 1); at = index(part, "="); name = substr(part, 1, at - 1)
        if (part ~ /:$/ && text ~ /^[ \t]/) made = made value(substr(part, 1, length(part) - 1), kind, "") ":"
        else if (at && at <= 61 && name ~ /^([A-Z_][A-Z0-9_]*|--?[a-z][a-z0-9.-]*)$/) made = made name "=" value(substr(part, at + 1), "kind", "")
        else if (has_shape(part, "option")) made = made part
        else made = made value(part, kind, "")
    }
    return made
}

function rules_line(line,   made, part, named, n) {
    made = ""
    while (line != "") {
        if (match(line, /^[ \t\r]+/)) { made = made substr(line, 1, RLENGTH); line = substr(line, RLENGTH + 1); continue }
        if (line ~ /^#/) return made "#"
        if (match(line, /^"[^"]*"/)) {
            n = RLENGTH; part = substr(line, 1, n); named = is("interface", before) || before ~ /[{,]$/
            made = made "\"" value(substr(part, 2, n - 2), named ? "name" : "never", "") "\""
        } else {
            n = match(line, /^[^ \t\r"#]+/) ? RLENGTH : 1
            part = substr(line, 1, n); made = made value(part, is("says", before) ? "never" : "all", "")
        }
        before = part; line = substr(line, n + 1)
    }
    return made
}

# XML

function xml_parts(is_end,   n, part) {
    while (buffer != "") {
        if (substr(buffer, 1, 1) != "<") {
            n = index(buffer, "<")
            if (!n && !is_end) return
            part = n ? substr(buffer, 1, n - 1) : buffer; buffer = n ? substr(buffer, n) : ""
            xml_text(part)
            continue
        }
        if (substr(buffer, 1, 4) == "<!--") n = index(buffer, "-->") ? index(buffer, "-->") + 2 : 0
        else if (substr(buffer, 1, 9) == "<![CDATA[") n = index(buffer, "]]>") ? index(buffer, "]]>") + 2 : 0
        else if (substr(buffer, 1, 2) == "<?") n = index(buffer, "?>") ? index(buffer, "?>") + 1 : 0
        else if (substr(buffer, 1, 2) == "<!") n = match(buffer, /^<!([^[>]|\[[^]]*[]])*>/) ? RLENGTH : 0
        else n = match(buffer, /^<("[^"]*"|'[^']*'|[^"'>])*>/) ? RLENGTH : 0
        if (!n && !is_end) return
        part = n ? substr(buffer, 1, n) : buffer; buffer = n ? substr(buffer, n + 1) : ""
        if (part ~ /^<[?]xml( +[a-z]+ *= *("[A-Za-z0-9_.-]*"|'[A-Za-z0-9_.-]*'))* *[?]>$/) put(part)
        else if (part ~ /^<[!?]/ || !n) put(newlines(lines_in(part)))
        else xml_tag(part)
    }
}

function xml_text(part,   key, core, start) {
    if (part ~ /^[ \t\r\n]*$/) { put(part); return }
    key = element == "param-value" ? "param/" parameter : element
    core = part; gsub(/^[ \t\r\n]+|[ \t\r\n]+$/, "", core); start = index(part, core)
    put(substr(part, 1, start - 1) value(core, xml_class(key, element == "param-value" ? "param/*" : key), "") substr(part, start + length(core)))
    if (element == "param-name") { parameter = core; sub(/[ \t\r\n].*/, "", parameter) }  # the first word alone
}

function xml_class(first, second) {
    if (("xml\t" tolower(first)) in class) return kind_at(class["xml\t" tolower(first)], 1)
    return ("xml\t" tolower(second)) in class ? kind_at(class["xml\t" tolower(second)], 1) : usual["xml"]
}

function xml_tag(tag,   name, made, part, at, attribute, q, lead) {
    if (!match(tag, /^<\/?([A-Za-z0-9_-]+:)?[A-Za-z0-9_.-]+/)) { put(newlines(lines_in(tag))); return }
    name = substr(tag, 1, RLENGTH); sub(/^<\/?([A-Za-z0-9_-]+:)?/, "", name)
    element = (tag ~ /^<\// || tag ~ /\/>$/) ? "" : name
    made = ""
    while (match(tag, /[A-Za-z0-9_.:-]+[ \t\r\n]*=[ \t\r\n]*("[^"]*"|'[^']*')/)) {
        at = RSTART; part = substr(tag, at, RLENGTH)
        made = made xml_rest(substr(tag, 1, at - 1)); tag = substr(tag, at + length(part))
        match(part, /["']/); q = substr(part, RSTART, 1); lead = substr(part, 1, RSTART - 1); part = substr(part, RSTART + 1); part = substr(part, 1, length(part) - 1)
        attribute = lead; gsub(/[ \t\r\n=]/, "", attribute)
        if (attribute ~ /^(xmlns$|xmlns:|xsi:)/) part = value(part, "look", "")
        else { sub(/^.*:/, "", attribute); part = xml_value(part, name "@" attribute, "@" attribute) }
        made = made lead q part q
    }
    put(made xml_rest(tag))
}

function xml_rest(text) { return text ~ /^[<>\/ \t\r\nA-Za-z0-9_.:-]*$/ ? text : " " }

function xml_value(text, first, second,   core, start) {
    core = text; gsub(/^[ \t\r\n]+|[ \t\r\n]+$/, "", core)
    if (core == "") return text
    start = index(text, core)
    return substr(text, 1, start - 1) value(core, xml_class(first, second), "") substr(text, start + length(core))
}
