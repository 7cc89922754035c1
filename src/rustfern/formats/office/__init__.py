"""Texts, workbooks and presentations of office suites."""
