"""Tests by taste, smell and irritation: thresholds, doses and detections, how they are judged, folded and admitted.

It knows the visit and changes its tries; counting runs are not its business.
"""
