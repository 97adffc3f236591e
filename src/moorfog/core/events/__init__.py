"""What happened, as it is written down: payloads by kind, the facts they carry by value, the hash chain, and the
upcasters that read what earlier versions wrote.

A payload is never rewritten once it has been stored. No rule and no judgement lives here.
"""
