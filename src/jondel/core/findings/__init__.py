"""Findings: suspicious data, looked for in whole tables and in what a step wrote."""
