"""What every route shares: access, bodies, entity tags, files, pages, problems."""
