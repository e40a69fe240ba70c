"""What a dataset holds, as dictionaries for programs and as pages for people.

`summary` collects it, `page` writes it out as text.
Never prints, and reads data only where statistics are asked for.
"""
