"""Certificates, keys and key stores as text."""

from __future__ import annotations

from rupex.documents.inspection import (
    AccountItem,
    CertificateItem,
    ChainDocument,
    CredentialDocument,
    CredentialItem,
    KeyItem,
    KeystoreItem,
)
from rupex.reports.text.text_layout import Page, Style

_SHOWN_NAMES = 6
_SOON_DAYS = 21


def render_credentials(
    document: CredentialDocument, *, width: int = 100, colour: bool = False, quiet: bool = False
) -> str:
    """File by file; then which keys fit which certificates, and what could not be read. ``quiet``: one line an item."""
    page = Page(width)
    files: dict[str, list[CredentialItem]] = {}
    for item in document.items:
        files.setdefault(item.file, []).append(item)
    chains: dict[str, list[ChainDocument]] = {}
    for chain in document.chains:
        chains.setdefault(chain.file, []).append(chain)
    for file, items in files.items():
        if quiet:
            for item in items:
                page.line(f"{file}  ", _short(item))
            continue
        first = items[0]
        rights = " ".join(part for part in (first.mode, first.owner, first.group) if part)
        page.line((file, "strong"), f"  {rights}")
        for item in items:
            _render(page, item)
        for chain in chains.get(file, ()):
            _render_chain(page, ordered=chain.ordered, missing=chain.missing)
        page.blank()
    if document.pairs and not quiet:
        page.line(("Which key fits", "strong"))
        fits: dict[str, list[str]] = {}
        for pair in document.pairs:
            fits.setdefault(pair.key, []).extend([pair.certificate] if pair.match else [])
        for key, certificates in fits.items():
            words = f"is the key of {', '.join(certificates)}" if certificates else "fits no certificate given here"
            page.entry(
                "yes" if certificates else "no", key, indent=2, column=6, style="good" if certificates else "bad"
            )
            page.entry("", words, indent=2, column=6)
        page.blank()
    for problem in document.problems:
        page.line(("could not be read", "doubt"), f"  {problem.file}: {problem.message}")
    return page.render(colour=colour)


def _short(item: CredentialItem) -> str:
    match item:
        case CertificateItem():
            return f"certificate {item.subject}, {_left(item.days_left)}"
        case KeyItem():
            return f"key {_kind(item)}"
        case KeystoreItem():
            return f"key store {item.format}, {_opened(item)}"
        case AccountItem():
            return f"account store, {item.certificates} certificates"


def _render(page: Page, item: CredentialItem) -> None:
    match item:
        case CertificateItem():
            _render_certificate(page, item)
        case KeyItem():
            _render_key(page, item)
        case KeystoreItem():
            is_factory = item.password == "default"  # noqa: S105  a word for which one it is, and no password
            page.entry("store", f"{item.format}, {_opened(item)}", style="bad" if is_factory else "plain")
        case AccountItem():
            page.entry("store", f"an automatic client's account, {item.certificates} certificates")


def _opened(item: KeystoreItem) -> str:
    count = "" if item.entries is None else f"{item.entries} entries, "
    return (
        count
        + {
            "default": "opened by a well-known password",
            "given": "opened by the password given",
            "none": "not protected by a password",
            "unknown": "its password is not known",
        }[item.password]
    )


def _left(days: int) -> str:
    return f"{days} days left" if days >= 0 else f"expired {-days} days ago"


def _render_certificate(page: Page, item: CertificateItem) -> None:
    page.entry("leaf" if item.position == 1 else f"{item.position}.", item.subject, style="strong")
    page.entry("issuer", "itself" if item.self_signed else item.issuer, indent=5)
    if item.names:
        shown = ", ".join(item.names[:_SHOWN_NAMES])
        more = len(item.names) - _SHOWN_NAMES
        page.entry("names", shown + (f" and {more} more" if more > 0 else ""), indent=5)
    style: Style = "bad" if item.days_left < 0 else "doubt" if item.days_left <= _SOON_DAYS else "plain"
    dates = f"{item.not_before[:10]} to {item.not_after[:10]}, {_left(item.days_left)} of {item.lifetime_days}"
    page.entry("valid", dates, indent=5, style=style)
    use = "a CA's" if item.is_ca else "for servers" if item.usable else "not for servers"
    bits = f" {item.key.bits} bits" if item.key.bits else ""
    page.entry("key", f"{item.key.type}{bits}, signed with {item.digest or 'a digest of its own'}; {use}", indent=5)
    page.entry("sha256", item.sha256, indent=5, style="quiet")


def _kind(item: KeyItem) -> str:
    bits = f" {item.bits} bits" if item.bits else ""
    kind = "of a kind that only its password tells" if item.type == "other" and item.encrypted else item.type
    return f"{kind}{bits}" + (", encrypted" if item.encrypted else "")


def _render_key(page: Page, item: KeyItem) -> None:
    page.entry("key", _kind(item), style="strong")
    if item.flaw:
        page.entry("unsound", item.flaw, indent=4, style="bad")
    elif item.primes == "not tried":
        page.entry("sound", "as far as was looked: its primes were not tried for being primes", indent=4)
    if item.everyone:
        page.entry("read by", "everybody on the machine", indent=4, style="bad")
    elif item.readers:
        page.entry("read by", ", ".join(item.readers), indent=4)


def _render_chain(page: Page, *, ordered: bool, missing: str | None) -> None:
    words = "in order" if ordered else "out of order, or with certificates that are not on the way"
    page.entry(
        "chain",
        f"{words}, up to {'an anchor that signs itself' if missing is None else missing + ', which is not in it'}",
    )
