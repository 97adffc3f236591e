"""What a visit is judged by, read strictly from dated data: books and a site's overlay, protocols, the procedure,
kinds of facepiece and of instrument, the gate every instrument and lot must pass, and until when a result counts.

A rule's number stands in the data files and nowhere in here. Nothing here knows of a visit.
"""
