"""Many readings of many hosts: an index of them, what hosts have in common, what differs; spread over processes or an engine.

What is here needs the extra ``fleet``: pyarrow for tables in Parquet and Arrow, SciPy for the tests of association.
"""
