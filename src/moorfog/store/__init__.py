"""The database: tables, migrations, the log and its chain, read models and their rebuild, and who may see what.

Every query for people or records takes a scope; correctness rests on unique keys.
"""

from moorfog.store import ledger as ledger  # whatever writes a fact through a session has it entered
