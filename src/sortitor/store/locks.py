"""The numbers of the advisory locks, each held for one transaction. Migrations know 7302 as well
(`hold_cohorts`).
"""

#: Whoever brings the database to another version.
SCHEMA = 7_300
#: Lots are applied one after the other.
LOTS = 7_301
#: Changes of devices share it; changes of what many devices lean on take it alone.
SETTLING = 7_302
#: Groups change one after the other.
GROUPS = 7_303
#: One process seals the journal at a time.
SEALS = 7_304
#: Rights are given by one at a time.
ROLES = 7_305
#: Together with a fact's key: nobody else sets it.
FACTS = 7_306
#: Files are settled and removed one after the other.
FILES = 7_307
#: One comparison of the fleet with its rosters at a time.
LEVELS = 7_313
#: Together with a family's key: one process counts what is kept of it.
KEPT = 7_314
