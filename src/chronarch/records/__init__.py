"""The store of records: SQLAlchemy tables on MariaDB, Alembic migrations, queries."""
