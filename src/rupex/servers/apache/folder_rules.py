"""Which rules of sections and override files hold for a request, and what they are written for (mod_rewrite.c, hook_fixup)."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
from typing import Final, NamedTuple

from rupex.servers.apache.load import last_of
from rupex.servers.apache.rewriting import Rule, RuleFolder, options_of, rules_of
from rupex.servers.apache.sections import AppliedSection, Context
from rupex.servers.apache.syntax import Block
from rupex.servers.common.patterns import UndeterminedError

_OF_REWRITING: Final = ("rewriteengine", "rewriterule", "rewritecond", "rewriteoptions", "rewritebase")


class FolderRules(NamedTuple):
    """Rules that are switched on: those of the section merged last that says anything of rules, and what it takes over from those
    before.

    ``place``: what they are written for.
    ``is_asked_early``: they hold for their folder itself, too, when it is asked for without a slash (``AllowNoSlash``).
    """

    rules: tuple[Rule, ...]
    place: RuleFolder
    is_asked_early: bool


def folder_rules(context: Context, file: str) -> FolderRules | None:
    """The rules of the sections of ``context`` for a request that is mapped to ``file`` (``proxy:…`` where it is passed on), None
    where none is switched on. Raises :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    saying = [a for a in context if a.kind != "server" and last_of(a.directives, *_OF_REWRITING) is not None]
    if not saying:
        return None
    server = [applied.directives for applied in context if applied.kind == "server"]
    rules: tuple[Rule, ...] = ()
    options, is_on = _last_options(server), rules_of(server, is_server=True).is_on
    for _, group in groupby(saying, lambda applied: "folder" if applied.kind == "override" else applied.kind):
        # The sections of one kind are merged with each other before they are with those before them.
        blocks = [applied.directives for applied in group]
        own = rules_of(blocks, is_server=False, is_on=is_on)
        options, is_on = _last_options(blocks) or options, own.is_on
        if "inherit" in options:
            rules = (*own.rules, *rules)
        else:
            rules = (*rules, *own.rules) if "inheritbefore" in options else own.rules
    if not is_on:
        return None
    if "mergebase" in options and len(saying) > 1:
        raise UndeterminedError("RewriteOptions MergeBase: which RewriteBase holds is not known")
    return FolderRules(rules, _place_of(saying[-1], file), "allownoslash" in options)


def _place_of(applied: AppliedSection, file: str) -> RuleFolder:
    said = last_of(applied.directives, "rewritebase")
    path = _folder_of(applied).rstrip("/") + "/"
    # A Location or a pattern is no folder: its rules see the name of the file, of which only what happens to be its text is taken
    # off, or where the request is passed on to.
    is_folder = applied.kind in ("folder", "override") and not _is_of_pattern(applied)
    is_stripped = not file.startswith("proxy:") and (is_folder or file.startswith(path))
    return RuleFolder(path, path if is_stripped else "", said.args[0] if said is not None and said.args else None)


def _folder_of(applied: AppliedSection) -> str:
    """The folder, URL path or pattern that a section with rules is written for."""
    if applied.kind == "condition":
        return "*If"  # what the server calls it (core.c, ifsection)
    if applied.section is not None:
        return applied.section.args[-1]
    return "/" + applied.directives[0].path.rpartition("/")[0]


def _is_of_pattern(applied: AppliedSection) -> bool:
    if applied.section is None:
        return False
    word = applied.section.args[-1]
    return any(mark in word for mark in "*?[") or applied.section.key.endswith("match")


def _last_options(blocks: Sequence[Block]) -> frozenset[str]:
    """The RewriteOptions of the last block that says any."""
    return next((options for block in reversed(blocks) if (options := options_of(block))), frozenset())
