"""The database: engine, transactions, clock, migrations, guards, and who may see what.

Every query for people or records takes a scope; correctness rests on unique keys.
"""

from moorfog.platform.log import ledger as ledger  # whatever writes a fact through a session has it entered
