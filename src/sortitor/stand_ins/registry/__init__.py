"""A supplier's registry, for demonstrations and tests: the protocol of the handbook's page
“Registries”, an office where resellers deliver, and faults on command.
"""
