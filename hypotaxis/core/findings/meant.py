"""Findings that the owner means to be so. They are set aside with a reason, and return when their cause changes."""

from collections.abc import Iterable
from dataclasses import replace

from hypotaxis.core.findings.finding import Finding
from hypotaxis.core.plan import Meant, Plan


def mark_meant(plan: Plan, finding: Finding, reason: str) -> Plan:
    """The plan with a finding marked as meant."""
    kept = tuple(one for one in plan.meant if one.cause != finding.cause)
    return replace(
        plan, meant=(*kept, Meant(rule=finding.rule, about=finding.about, cause=finding.cause, reason=reason))
    )


def no_longer_meant(plan: Plan, cause: str) -> Plan:
    """The plan without one of its marks."""
    return replace(plan, meant=tuple(one for one in plan.meant if one.cause != cause))


def set_aside(plan: Plan, findings: Iterable[Finding]) -> tuple[list[Finding], list[tuple[Finding, str]]]:
    """(findings that stand, findings that are meant with their reasons)."""
    reasons = {one.cause: one.reason for one in plan.meant}
    standing, meant = [], []
    for finding in findings:
        if finding.cause in reasons:
            meant.append((finding, reasons[finding.cause]))
        else:
            standing.append(finding)
    return standing, meant
