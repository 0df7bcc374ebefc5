"""Unattended work: lists of shots, what is done of them, and reports."""
