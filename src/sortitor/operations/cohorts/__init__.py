"""Cohorts: sets of devices by filter or by list, explained, compared, and taken back."""
