"""Files of transactions: CSV, JSON, Arrow, Parquet and workbooks."""
