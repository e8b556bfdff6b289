//! How long a lake takes to load rows, and to merge small batches of scattered changes into them, beside writing the same rows as
//! Parquet and nothing else.
//!
//! `cargo run --release -p moorage-lake --example merging -- ROWS [BATCHES]`
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::print_stdout,
    reason = "a measurement, and no part of the program"
)]

use arrow::array::RecordBatch;
use moorage_adapter::{LoadTarget, TakeFrom, WriteTarget};
use moorage_core::model::schema::RowIdentity;
use moorage_lake::LakeTarget;
use moorage_testkit::conformance::handed::{
    PIPELINE, begun, checkpoint, holder, live, plan, prepared, taken, transaction,
};
use moorage_testkit::{Op, Row, block_of, rows_of_batch};
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::file::properties::WriterProperties;
use std::fs::File;
use std::path::Path;
use std::time::{Duration, Instant};

/// A made-up row, its texts as hard to compress as an application's.
fn made_up(id: i64, salt: u64) -> Row {
    let mut state = (id as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ salt;
    let mut text = |letters: usize| -> String {
        (0..letters)
            .map(|_| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                char::from(b'a' + ((state >> 33) % 26) as u8)
            })
            .collect()
    };
    Row(id, Some(text(16)), Some(text(40)))
}

fn properties() -> WriterProperties {
    WriterProperties::builder().set_compression(Compression::ZSTD(ZstdLevel::try_new(1).unwrap())).build()
}

/// Writes rows as Parquet files of as many rows as the lake's, and waits for the disk.
fn plain(folder: &Path, batches: &[RecordBatch], name: &str) -> Duration {
    let began = Instant::now();
    let mut at = 0;
    for (number, some) in batches.chunks(25).enumerate() {
        let mut file = File::create(folder.join(format!("{name}-{number}.parquet"))).unwrap();
        let mut writer = ArrowWriter::try_new(&mut file, some[0].schema(), Some(properties())).unwrap();
        for batch in some {
            writer.write(batch).unwrap();
            at += batch.num_rows();
        }
        writer.close().unwrap();
        file.sync_all().unwrap();
    }
    assert!(at > 0);
    began.elapsed()
}

fn median(mut all: Vec<Duration>) -> f64 {
    all.sort();
    all[all.len() / 2].as_secs_f64() * 1000.0
}

fn peak_mib() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

#[tokio::main]
async fn main() {
    let mut arguments = std::env::args().skip(1).map(|n| n.parse::<i64>().expect("a number"));
    let (rows, batches) = (arguments.next().unwrap_or(1_000_000), arguments.next().unwrap_or(40));
    let folder = tempfile::tempdir_in(std::env::current_dir().unwrap()).unwrap();
    let target = LakeTarget::folder(folder.path().join("lake"), Some(folder.path().join("keys")));
    let silent = taken(&target, &holder("one"), TakeFrom::Nobody, true).await;
    assert_eq!(silent, moorage_adapter::Turn::Taken);
    target.save_checkpoint(&checkpoint("0")).await.unwrap();
    let berths = plan(&target, "berths", RowIdentity::Key(vec![0]));
    let chunk = |at: i64| {
        let ids = at * 10_000..((at + 1) * 10_000).min(rows);
        rows_of_batch(&berths.schema, &ids.map(|id| made_up(id * 2, 0)).collect::<Vec<_>>())
    };
    let chunks = (rows + 9_999) / 10_000;
    // In stretches, so that what is made up beforehand takes little memory and no time that is measured.
    let (mut loading, mut beside) = (Duration::ZERO, Duration::ZERO);
    target.create(PIPELINE, &berths).await.unwrap();
    for stretch in 0..chunks.div_euclid(25) + i64::from(chunks % 25 > 0) {
        let some: Vec<RecordBatch> = (stretch * 25..((stretch + 1) * 25).min(chunks)).map(chunk).collect();
        beside += plain(folder.path(), &some, "plain");
        let began = Instant::now();
        for batch in some {
            target.load(&berths, batch).await.unwrap();
        }
        loading += began.elapsed();
    }
    let began = Instant::now();
    target.finish_load(PIPELINE, &berths, live()).await.unwrap();
    loading += began.elapsed();
    println!(
        "{rows} rows loaded in {:.2} s; as Parquet alone {:.2} s: {:.2} times; peak {} MiB",
        loading.as_secs_f64(),
        beside.as_secs_f64(),
        loading.as_secs_f64() / beside.as_secs_f64(),
        peak_mib()
    );
    let keys: u64 = walk(&folder.path().join("keys"));
    println!("key files: {:.2} bytes a row", keys as f64 / rows as f64);

    let (mut merges, mut writes) = (Vec::new(), Vec::new());
    let mut seed = 7u64;
    let mut gone = std::collections::HashSet::new();
    for number in 1..=batches {
        let mut ids = std::collections::BTreeSet::new();
        while ids.len() < 900 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let id = ((seed >> 20) as i64).rem_euclid(rows) * 2;
            if !gone.contains(&id) {
                ids.insert(id);
            }
        }
        let mut shuffled: Vec<i64> = ids.into_iter().collect();
        shuffled.sort_by_key(|id| (*id as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let mut ops: Vec<Op> =
            shuffled[..700].iter().map(|id| Op::Update(*id, made_up(*id, number as u64))).collect();
        ops.extend(shuffled[700..].iter().map(|id| Op::Delete(*id)));
        gone.extend(shuffled[700..].iter().copied());
        ops.extend((0..100).map(|at| Op::Insert(made_up((at * rows / 100 + number) * 2 + 1, 0))));
        let same: Vec<Row> = ops
            .iter()
            .filter_map(|op| match op {
                Op::Update(_, row) | Op::Insert(row) => Some(row.clone()),
                _ => None,
            })
            .collect();
        writes.push(plain(folder.path(), &[rows_of_batch(&berths.schema, &same)], "small"));
        let position = number.to_string();
        let block = block_of(&berths.schema, &transaction(&position), &mut 0, &ops, |_| {
            unreachable!("a keyed table")
        });
        let batch = prepared(&berths, block);
        let began = Instant::now();
        let mut merge = begun(&target).await;
        merge.write(batch).await.unwrap();
        let _durable = merge.commit_durably(checkpoint(&position)).await.unwrap();
        merges.push(began.elapsed());
    }
    let (merge, write) = (median(merges.split_off(2)), median(writes));
    println!(
        "{batches} batches of 1,000 changes: {merge:.1} ms each, as Parquet alone {write:.1} ms: {:.1} ms beside it; peak {} MiB",
        merge - write,
        peak_mib()
    );
    target.end_turn(PIPELINE).await.unwrap();
}

fn walk(folder: &Path) -> u64 {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries
        .map(|e| if e.path().is_dir() { walk(&e.path()) } else { e.metadata().map_or(0, |m| m.len()) })
        .sum()
}
