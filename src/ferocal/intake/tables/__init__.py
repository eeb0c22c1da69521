"""The reading of tables as people write them: what each row, column and number of one is."""
