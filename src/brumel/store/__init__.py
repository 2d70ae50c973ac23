"""PostgreSQL through SQLAlchemy: tables, sessions, migrations, and the private cluster. No rule of the trade."""
