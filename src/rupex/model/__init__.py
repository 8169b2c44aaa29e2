"""The neutral model: what a host answers, who decided it, and how it was judged.

Everything Rupex learns, from a file or from the wire, becomes these types; everything it judges, it judges on them.
This is the ground floor: it imports nothing else of ours.
"""

from rupex.model.endpoint import (
    CertificateUse,
    Dropped,
    Endpoint,
    Header,
    Listing,
    Redirect,
    RedirectSample,
    Refusal,
    Scope,
    Tls,
    Upstream,
)
from rupex.model.facts import (
    Audience,
    Certificate,
    CertificateFile,
    FileFacts,
    FolderFacts,
    Host,
    Key,
    KeyFile,
    Service,
    Source,
)
from rupex.model.judgement import (
    EXEMPT,
    PASS,
    Exempt,
    Fail,
    Judgement,
    Pass,
    Severity,
    Unknown,
    Verdict,
    worst_verdict,
)
from rupex.model.problem import Problem, ProblemKind, RupexError
from rupex.model.provenance import Provenance, Setting, default_of, unknown

__all__ = [
    "EXEMPT",
    "PASS",
    "Audience",
    "Certificate",
    "CertificateFile",
    "CertificateUse",
    "Dropped",
    "Endpoint",
    "Exempt",
    "Fail",
    "FileFacts",
    "FolderFacts",
    "Header",
    "Host",
    "Judgement",
    "Key",
    "KeyFile",
    "Listing",
    "Pass",
    "Problem",
    "ProblemKind",
    "Provenance",
    "Redirect",
    "RedirectSample",
    "Refusal",
    "RupexError",
    "Scope",
    "Service",
    "Setting",
    "Severity",
    "Source",
    "Tls",
    "Unknown",
    "Upstream",
    "Verdict",
    "default_of",
    "unknown",
    "worst_verdict",
]
