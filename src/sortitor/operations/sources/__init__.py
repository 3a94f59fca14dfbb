"""Sources: other systems that know something of devices and people."""
