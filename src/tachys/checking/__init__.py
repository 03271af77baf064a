"""Model, bounds and capture side by side: what was measured, whether it agrees, what follows for each need.

A capture goes through the rooms in this order: ``probes`` (which line shows what), ``board`` (what was measured),
``compare`` (does it agree, and if not, why), then ``correct`` (the model put right) and ``out`` (what is told).
"""
