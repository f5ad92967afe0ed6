use super::*;
use proptest::prelude::*;

fn kept(folder: &Path, sizes: &[usize]) {
    let mut safe = Safekeeping::open(folder).unwrap();
    let table = Table { name: "nights".into(), columns: Vec::new(), key: Vec::new() };
    for (number, size) in sizes.iter().enumerate() {
        let change = Change {
            key: vec![Value::Integer(number as i64)],
            column: "note".into(),
            old: Value::Text(vec![b'x'; *size]),
            new: Value::Text("new".into()),
            record: number.to_string(),
        };
        safe.keep(&table, &[change]).unwrap();
    }
}

fn record(line: &Line) -> (String, usize) {
    match &line.kept {
        KeptChange::Cell { record, old: KeptValue::Text(old), .. } => (record.clone(), old.len()),
        other => panic!("{other:?}"),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(8))]
    #[test]
    fn every_line_is_read_from_either_end(
        sizes in prop::collection::vec(prop_oneof![30 => 0..80_usize, 1 => 300_000..400_000_usize], 1..300),
        from_the_end: bool,
    ) {
        let folder = tempfile::tempdir().unwrap();
        kept(folder.path(), &sizes);
        let lines = Lines::open(folder.path()).unwrap();
        prop_assert_eq!(lines.len(), sizes.len());
        let mut order: Vec<usize> = (0..sizes.len()).collect();
        if from_the_end {
            order.reverse();
        }
        for number in order {
            let line = lines.get(number).unwrap();
            prop_assert_eq!(record(&line), (number.to_string(), sizes[number]));
        }
    }
}

#[test]
fn a_torn_end_was_never_acted_upon_and_any_other_damage_is_an_error() {
    let folder = tempfile::tempdir().unwrap();
    kept(folder.path(), &[3; 200]);
    let path = changes_file(folder.path());
    let whole = fs::read(&path).unwrap();
    fs::write(&path, &whole[..whole.len() - 5]).unwrap();
    assert_eq!(Lines::open(folder.path()).unwrap().len(), 199);
    let mut damaged = whole.clone();
    let place = whole.len() / 2;
    damaged[place..place + 60].fill(b'#');
    fs::write(&path, damaged).unwrap();
    let error = Lines::open(folder.path()).err().unwrap();
    assert!(error.what.contains("is not readable"), "{error}");
    assert!(error.place.as_deref().is_some_and(|place| place.contains("line 10")), "{error}");
}
