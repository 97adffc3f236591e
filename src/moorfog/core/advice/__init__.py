"""What suits a task and a face: protection factors and working filters, methods that may be used, sizes, solutions
and how long they keep.

Advice proposes. It gives no verdict and knows of no visit.
"""
