"""Findings: what is wrong, where, why it matters, and a fix that can be applied."""

from errant_gust.core.checks.find import findings
from errant_gust.core.checks.finding import Finding
from errant_gust.core.checks.frames import findings_on_frame

__all__ = ["Finding", "findings", "findings_on_frame"]
