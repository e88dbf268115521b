//! study.toml: any text is read or refused, and what is read can be written and read again.

#![no_main]

use tonemap_study::{Condition, Study, Take};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let Ok(mut study) = Study::read(text) else { return };
    let take = Take {
        name: "added".into(),
        file: "added.wav".into(),
        conditions: [("cut".to_string(), Condition::Number(1.0))].into(),
        ..Take::default()
    };
    if study.add(take).is_ok() {
        let again = Study::read(&study.text()).expect("what was written can be read");
        assert_eq!(again.takes, study.takes);
    }
});
