"""Tables that are no text: Parquet and workbooks, by the rules for columns of tables of text."""
