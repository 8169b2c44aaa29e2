"""One host: the evidence of its tree, whole or a share of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from functools import cached_property

from msgspec import Struct, field, structs

from rupex.audit.files import judged_files
from rupex.host import CredentialStore, HostTree, TreeError, find_library
from rupex.host.facts.firewall import find_firewall
from rupex.host.facts.renewals import find_renewals
from rupex.host.facts.sockets import find_listening
from rupex.model import (
    Backend,
    CertificateFile,
    CertificateLifetime,
    CertificateUse,
    Endpoint,
    Group,
    Host,
    KeyFile,
    Problem,
    ProblemKind,
    Provenance,
    Renewal,
    Setting,
    bounds,
    lifetime_days,
)
from rupex.model.budget import Budget, ExhaustedError
from rupex.model.endpoint import is_loopback
from rupex.servers.contract import WHOLE, Answer, Configured, HostContext, Request, Share, Socket
from rupex.servers.registry import family_called, load_families


class LoadedHost(Struct, frozen=True, dict=True):
    """A tree whose configurations are read, before anything is made of them. ``uses``: each certificate and key that
    they name, with the ids of the endpoints that use it; ``budget``: what is left of the work that the host may make."""

    name: str
    host_context: HostContext
    configurations: tuple[Configured, ...]
    uses: Mapping[CertificateUse, Sequence[str]]
    problems: tuple[Problem, ...]
    budget: Budget

    @cached_property
    def passed_on(self) -> tuple[Backend, ...]:
        """Where configurations pass connections on to without opening what is sent."""
        return tuple(backend for configuration in self.configurations for backend in configuration.passes_to)

    @cached_property
    def _sockets(self) -> frozenset[Socket]:
        return frozenset(socket for configuration in self.configurations for socket in configuration.sockets)

    def is_own(self, backend: Backend) -> bool:
        """Whether ``backend`` is a listener of one of the configurations, as far as addresses of this machine tell."""
        if backend.port is None:
            return (backend.address, None) in self._sockets
        if not is_loopback(backend.address):
            return (backend.address, backend.port) in self._sockets
        every = ("0.0.0.0", "[::]", "*")  # noqa: S104
        return any(port == backend.port and (is_loopback(at) or at in every) for at, port in self._sockets)


class Evidence(Struct, frozen=True):
    """A host as its tree shows it, and the configurations it was made of. ``budget``: for what these are asked later."""

    host: Host
    configurations: tuple[Configured, ...]
    budget: Budget = field(default_factory=Budget)

    def answer(self, request: Request) -> tuple[Configured, Answer] | None:
        """What ``request`` gets, and the configuration that says so; None when nothing listens where it is sent."""
        with self.budget:
            for configuration in self.configurations:
                try:
                    answer = configuration.answer(request)
                except ExhaustedError as exhausted:
                    transport = "tls" if request.scheme == "https" else "plain"
                    answer = Answer(endpoint="", scope="", transport=transport, unknown=exhausted.why)
                if answer is not None:
                    return configuration, answer
        return None


def gather(
    tree: HostTree, start: str, *, name: str, family: str | None = None, assumed: Mapping[str, str] | None = None
) -> Evidence:
    """Read every configuration in ``tree`` below ``start``, and the files it names. What cannot be read becomes a
    problem of the host. Raises :class:`~rupex.model.RupexError` for an unknown ``family`` or a bad assumption."""
    loaded = load_host(tree, start, name=name, family=family, assumed=assumed)
    return Evidence(host_of(loaded), loaded.configurations)


def load_host(
    tree: HostTree,
    start: str,
    *,
    name: str,
    family: str | None = None,
    assumed: Mapping[str, str] | None = None,
    uses_templates: bool = True,
) -> LoadedHost:
    """The first half of :func:`gather`: what is the same for every share. ``uses_templates``: sites that are written from one
    template are resolved once; the result is the same without."""
    with Budget() as budget:
        return _load_host(tree, start, name, family, assumed or {}, budget, uses_templates=uses_templates)


def _load_host(
    tree: HostTree,
    start: str,
    name: str,
    family: str | None,
    assumed: Mapping[str, str],
    budget: Budget,
    *,
    uses_templates: bool,
) -> LoadedHost:
    problems: list[Problem] = list(tree.problems)
    host_context = HostContext(
        tree, CredentialStore(tree), find_library(tree, assumed, problems), assumed, uses_templates
    )
    configurations = []
    for found, main_path in _find(tree, start, family, problems):
        budget.at = main_path
        with suppress(ExhaustedError):
            configurations.append(family_called(found).resolve(main_path, host_context))
    uses: dict[CertificateUse, list[str]] = {}
    for configuration in configurations:
        problems += configuration.problems
        for use, endpoints in configuration.certificate_uses().items():
            uses.setdefault(use, []).extend(endpoints)
    return LoadedHost(name, host_context, tuple(configurations), uses, tuple(problems), budget)


def host_of(loaded: LoadedHost, share: Share = WHOLE, *, complete: bool = True) -> Host:
    """The host, or a ``share`` of it: of the endpoints, the certificates and the files. Problems of the configuration
    are the first share's. ``complete``: every endpoint is written out; else those of a template are in groups."""
    with loaded.budget:
        return _host_of(loaded, share, complete=complete)


def _host_of(loaded: LoadedHost, share: Share, *, complete: bool) -> Host:
    tree, configurations = loaded.host_context.tree, loaded.configurations
    alone: list[Endpoint] = []
    groups: list[Group] = []
    for configuration in configurations:
        behind = len(alone) + sum(len(group.instances) for group in groups)
        found = configuration.endpoints(share, complete=complete)
        alone += found.alone
        groups += [group.moved(behind) for group in found.groups]
    alone = [_linked(endpoint, loaded) for endpoint in alone]
    groups = [structs.replace(group, model=_linked(group.model, loaded)) for group in groups]
    certificates, keys = _credentials(loaded.host_context.credentials, loaded.uses, share)
    renewals = find_renewals(tree)
    samples = tuple(sample for configuration in configurations for sample in configuration.samples(alone))
    later = [problem for configuration in configurations for problem in configuration.problems]
    later = [problem for problem in later if problem not in loaded.problems]  # met on the way to the endpoints
    missing = _missing_credentials(certificates, keys, tree)
    problems = [*(loaded.problems if share.is_first else ()), *later, *missing]
    if loaded.budget.is_exhausted:
        problems.insert(0, _exhausted(loaded.budget))
    return Host(
        name=loaded.name,
        sources=tuple(source for configuration in configurations for source in configuration.sources),
        endpoints=tuple(alone),
        services=tuple(service for configuration in configurations for service in configuration.services),
        files=tuple(judged_files(loaded.host_context.credentials, configurations, keys, share)),
        certificates=certificates,
        keys=keys,
        samples=samples,
        problems=tuple(problems[: bounds.PROBLEMS]),
        chains=loaded.host_context.credentials.chains(),
        renewals=renewals,
        firewall=find_firewall(tree) if share.is_first else None,
        listening=find_listening(tree) if share.is_first else None,
        lifetimes=tuple(_lifetimes(certificates, tree, renewals)),
        groups=tuple(groups),
    )


def _linked(endpoint: Endpoint, loaded: LoadedHost) -> Endpoint:
    """``endpoint``, with what other configurations of the host say of it: a listener of the machine itself is open to others
    where one of them passes connections on to it; and what that one passes on is opened there."""
    if endpoint.transport == "passthrough":
        backends = endpoint.backends if isinstance(endpoint.backends, tuple) else ()
        return structs.replace(endpoint, opened_here=bool(backends) and all(map(loaded.is_own, backends)))
    if endpoint.is_local and any(
        backend.port == endpoint.port and loaded.is_own(backend)
        for backend in loaded.passed_on
        if endpoint.port is not None
    ):
        return structs.replace(endpoint, local=False)
    return endpoint


def _exhausted(budget: Budget) -> Problem:
    words = (
        f"the configuration takes more than {budget.steps:,} steps to evaluate, the limit for one host; evaluation stopped at "
        f"{budget.stopped_at or 'its start'}, and everything after it is unknown"
    )
    return Problem("bound", None, None, words, True)


def _lifetimes(
    certificates: Iterable[CertificateFile], tree: HostTree, renewals: Setting[tuple[Renewal, ...]]
) -> Iterable[CertificateLifetime]:
    """How long each certificate is valid; where its links lead only if a job says which certificates it renews."""
    follow = any(job.covers is not None for job in renewals.value or ())
    for file in certificates:
        if file.leaf is not None:
            days = lifetime_days(file.leaf.not_before, file.leaf.not_after)
            yield CertificateLifetime(file.path, days, file.leaf.not_after, tree.real(file.path) if follow else None)


def _find(tree: HostTree, start: str, family: str | None, problems: list[Problem]) -> list[tuple[str, str]]:
    """The configurations to read, as (family, main file)."""
    families = {family: family_called(family)} if family is not None else load_families()
    if start and tree.is_file(start) and family is None:
        text = _beginning(tree, start)
        if text is None:
            problems.append(Problem("unreadable", start, None, "the file cannot be read", True))
            return []
        found = [(name, start) for name, candidate in families.items() if candidate.looks_like(text)]
        if not found:
            names = ", ".join(sorted(families))
            problems.append(
                Problem("syntax", start, 1, f"not a configuration that Rupex can read (it knows {names})", True)
            )
        return found[:1]
    found = [(name, path) for name, candidate in families.items() for path in candidate.find(tree, start)]
    if not found:
        where = start or "the tree"
        message = f"no server's configuration found in {where}; name its main file, or give --as FAMILY"
        problems.append(Problem("missing", start or None, None, message, True))
    return found


def _beginning(tree: HostTree, path: str) -> str | None:
    try:
        return tree.read(path)[: 1 << 16].decode("utf-8", "replace")
    except TreeError:
        return None


def _credentials(
    store: CredentialStore, uses: Mapping[CertificateUse, Sequence[str]], share: Share
) -> tuple[tuple[CertificateFile, ...], tuple[KeyFile, ...]]:
    """The certificate and key files that endpoints use, each once."""
    key_places: dict[str, list[Provenance]] = {}
    pairs: dict[tuple[str, str | None], tuple[list[Provenance], list[str]]] = {}
    for use, endpoints in uses.items():
        if use.key is not None:
            key_places.setdefault(use.key, []).append(use.key_provenance or use.provenance)
        if use.certificate is not None:
            places, users = pairs.setdefault((use.certificate, use.key), ([], []))
            places.append(use.provenance)
            users.extend(endpoints)
    first, end = share.bounds(len(pairs))
    certificates = []
    for (path, key_path), (places, users) in list(pairs.items())[first:end]:
        found = store.certificates(path)
        chain = () if isinstance(found, str) else found
        certificates.append(
            CertificateFile(
                path=path,
                named_by=tuple(dict.fromkeys(places)),
                endpoints=tuple(users),
                leaf=chain[0] if chain else None,
                chain=chain[1:],
                key=None if key_path is None else _key_file(store, key_path, key_places[key_path]),
                unknown=found if isinstance(found, str) else None,
                trust=store.trust(path),
            )
        )
    first, end = share.bounds(len(key_places))
    keys = tuple(_key_file(store, path, named_by) for path, named_by in list(key_places.items())[first:end])
    return tuple(certificates), keys


def _key_file(store: CredentialStore, path: str, named_by: list[Provenance]) -> KeyFile:
    found = store.key(path)
    places = tuple(dict.fromkeys(named_by))
    if isinstance(found, str):
        return KeyFile(path=path, named_by=places, unknown=found)
    return KeyFile(path=path, named_by=places, key=found)


def _missing_credentials(
    certificates: Iterable[CertificateFile], keys: Iterable[KeyFile], tree: HostTree
) -> list[Problem]:
    """Certificates that cannot be read are problems; a key that the auditor may not open is only unknown."""
    found = []
    for file in certificates:
        if file.unknown is not None:
            place = file.named_by[0]
            kind: ProblemKind = "unreadable" if tree.is_file(file.path) else "missing"
            found.append(Problem(kind, place.file, place.line, f"{file.path}: {file.unknown}"))
    for key in keys:
        if key.unknown is not None and not tree.is_file(key.path):
            place = key.named_by[0]
            found.append(Problem("missing", place.file, place.line, f"{key.path}: {key.unknown}"))
    return found
