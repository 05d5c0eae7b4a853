"""A book as a folder: Parquet files in shards, and a manifest in JSON that names them.

    bookings/
      manifest.json             the book as it is; a change puts another in its place
      manifests/000012.json     manifests of before, kept for as long as readers may need them
      shards/0007/              of each shard:
        groups-....parquet      its groups: one row each, a column for each group column
        values-....parquet      what the codes of a column represent, where different values
                                are counted
        2024-....parquet        cells of the days of a year
        2025-08-....parquet     cells of the days of a month, in the last year that has rows

The values of a group determine its shard (see `eptaro.core.aggregation.shards`). Its number is its
row in the files of groups of its shard, read in the order of the manifest; so are codes of values.
A file of cells has one row per group and day that has transactions: `group` (its number), `day`,
and the parts of what is kept (see `eptaro.storage.layout`). Any reader of Parquet reads them; what
is in no manifest is what a change left that did not end, and means nothing."""
