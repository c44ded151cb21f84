"""Findings: what is wrong, where, why it matters, and a fix that can be applied."""

from errant_gust.core.checks.find import findings, findings_of
from errant_gust.core.checks.flows import findings_on_frame
from errant_gust.core.study.finding import Finding

__all__ = ["Finding", "findings", "findings_of", "findings_on_frame"]
