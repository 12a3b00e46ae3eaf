"""What is kept, in PostgreSQL: models, migrations, queries.

Tracks and files are binary columns, so a pg_dump is a full backup.
"""
