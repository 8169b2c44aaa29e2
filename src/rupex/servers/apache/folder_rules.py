"""Which rules of sections and override files hold for a request, and what they are written for (mod_rewrite.c, hook_fixup)."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from itertools import groupby
from typing import Final, NamedTuple

from rupex.servers.apache.load import last_of
from rupex.servers.apache.rewriting import Rule, RuleFolder, options_of, rules_of
from rupex.servers.apache.sections import AppliedSection, Context
from rupex.servers.apache.syntax import Block

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
    where none is switched on."""
    saying = [a for a in context if a.kind != "server" and last_of(a.directives, *_OF_REWRITING) is not None]
    if not saying:
        return None
    server = [applied.directives for applied in context if applied.kind == "server"]
    rules: tuple[Rule, ...] = ()
    options, is_on = _last_options(server), rules_of(server, is_server=True).is_on
    base = _Base(None, options, is_set=False)
    for _, group in groupby(saying, lambda applied: "folder" if applied.kind == "override" else applied.kind):
        # The sections of one kind are merged with each other before they are with those before them.
        blocks = [applied.directives for applied in group]
        own = rules_of(blocks, is_server=False, is_on=is_on)
        options, is_on = _last_options(blocks) or options, own.is_on
        base = base.behind(reduce(lambda before, said: before.behind(said), map(_base_said, blocks)))
        if "inherit" in options:
            rules = (*own.rules, *rules)
        else:
            rules = (*rules, *own.rules) if "inheritbefore" in options else own.rules
    if not is_on:
        return None
    return FolderRules(rules, _place_of(saying[-1], file, base.path), "allownoslash" in options)


class _Base(NamedTuple):
    """The URL path of RewriteBase, None for none, with the options that are said with it. ``is_set``: it counts as said."""

    path: str | None
    options: frozenset[str]
    is_set: bool

    def behind(self, new: _Base) -> _Base:
        """This with what is merged behind it (config_perdir_merge): what was merged without ``MergeBase`` counts as not said."""
        options = new.options or self.options
        if "mergebase" not in options:
            return _Base(new.path, options, is_set=False)
        return _Base(new.path if new.is_set else self.path, options, self.is_set or new.is_set)


def _base_said(block: Block) -> _Base:
    said = last_of(block, "rewritebase")
    path = said.args[0] if said is not None and said.args else None
    return _Base(path, options_of(block), is_set=path is not None)


def _place_of(applied: AppliedSection, file: str, base: str | None) -> RuleFolder:
    path = _folder_of(applied).rstrip("/") + "/"
    # A Location or a pattern is no folder: its rules see the name of the file, of which only what happens to be its text is taken
    # off, or where the request is passed on to.
    is_folder = applied.kind in ("folder", "override") and not _is_of_pattern(applied)
    is_stripped = not file.startswith("proxy:") and (is_folder or file.startswith(path))
    return RuleFolder(path, path if is_stripped else "", base)


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
