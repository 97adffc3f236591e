"""The auditor's own program: records and archives checked by a second judge that shares nothing with the rest.

It imports nothing of the program. It was written from docs/formats, the rule books and the published texts, and is
handed out as one file (:mod:`moorfog.platform.auditor_file`), so that nobody has to believe the program that made
an archive.
"""
