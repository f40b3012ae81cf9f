"""What the desk remembers: SQLite through SQLAlchemy, package files by digest, sealed keys."""
