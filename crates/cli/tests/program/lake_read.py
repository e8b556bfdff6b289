"""Reads lake tables with engines of other makes: for each table, and each engine, the rows as JSON, one line each.

Arguments: the lake's folder, then TABLE or TABLE@VERSION.
"""

import datetime
import decimal
import json
import os
import sys


def plain(value):
    if isinstance(value, (datetime.datetime, datetime.date)):
        return value.isoformat()
    if isinstance(value, decimal.Decimal):
        return str(value)
    if isinstance(value, (bytes, bytearray)):
        return value.hex()
    return value


def with_duckdb(path, version):
    import duckdb
    import duckdb_extension_delta

    folder = os.path.dirname(duckdb_extension_delta.__file__)
    found = [os.path.join(at, name) for at, _, names in os.walk(folder) for name in names]
    extension = next(name for name in found if name.endswith(".duckdb_extension"))
    database = duckdb.connect(config={"allow_unsigned_extensions": "true"})
    database.execute(f"LOAD '{extension}'")
    database.execute("SET TimeZone = 'UTC'")
    at = "" if version is None else f", version => {version}"
    return database.execute(f"SELECT * FROM delta_scan('{path}'{at})").fetchall()


def with_deltalake(path, version):
    from deltalake import DeltaTable, QueryBuilder

    table = DeltaTable(path, version=version)
    rows = QueryBuilder().register("t", table).execute("SELECT * FROM t").read_all()
    return list(zip(*[rows.column(at).to_pylist() for at in range(rows.num_columns)])) if rows.num_rows else []


ENGINES = {"duckdb": with_duckdb, "deltalake": with_deltalake}

for wanted in sys.argv[2:]:
    table, _, version = wanted.partition("@")
    for engine, read in ENGINES.items():
        rows = read(os.path.join(sys.argv[1], table), int(version) if version else None)
        for row in sorted(json.dumps([plain(value) for value in row], ensure_ascii=False) for row in rows):
            print(f"{engine}\t{wanted}\t{row}")
