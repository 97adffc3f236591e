"""The way in over HTTP: routes as data with their access rule, the stream of events, the OpenAPI document out of them.

A route asks one operation; nothing is judged here.
"""
