"""What a device gets: a catalogue of settings, items, kits, and what of them reaches whom."""
