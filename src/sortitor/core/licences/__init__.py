"""Licence pools: what is needed, what there is and until when, and what a voucher would change."""
