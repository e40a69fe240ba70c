"""What a dataset holds, as dictionaries for programs and as pages for people.

`summary` collects it, `page` writes it out, `text` has sizes and tables.
Never prints, and reads data only where statistics are asked for.
"""
