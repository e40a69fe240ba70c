"""Reports: one page that holds the pictures, tables and numbers of a study in sentences, and how
they were made. Nothing is computed here but what the sentences say."""
