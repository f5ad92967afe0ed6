//! The JSON documents that commands print, as JSON Schema (draft 2020-12), made from their types.

use crate::commands::{
    completions::Script, init, ready, redirects, runs, scan, sites::Sites, survey, tell::Told,
    trial, undo,
};
use crate::context::FORMAT;
use crate::errors::Failed;
use fernweh_flow::compare::CompareReport;
use fernweh_flow::pack::PackReport;
use fernweh_flow::preflight::Preflight;
use fernweh_flow::ready::{ReadyReport, WatchReport};
use fernweh_flow::rewrite::LiveReport;
use fernweh_flow::rewrite_file::FileReport;
use fernweh_flow::run::{MoveReport, PlacedReport};
use fernweh_flow::show::ShowReport;
use fernweh_flow::survey::SurveyReport;
use fernweh_flow::trace::TraceReport;
use fernweh_flow::unpack::UnpackReport;
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, SchemaGenerator};
use serde_json::{Value, json};

/// Every document: the name of its file, and its schema.
pub fn schemas() -> Vec<(String, Value)> {
    fn of<T: JsonSchema>(name: &str, about: &str) -> (String, Value) {
        let settings = SchemaSettings::draft2020_12().for_serialize();
        let schema = SchemaGenerator::new(settings).into_root_schema_for::<T>();
        let mut schema = schema.to_value();
        schema["title"] = json!(about);
        let format = json!({ "const": FORMAT, "description": "The version of the format." });
        // Documents that are one of several stand side by side.
        let mut with_format = |part: &mut Value| {
            if let Some(Value::Object(properties)) = part.get_mut("properties") {
                properties.insert("format".into(), format.clone());
                if let Some(Value::Array(required)) = part.get_mut("required") {
                    required.insert(0, json!("format"));
                }
            }
        };
        match schema.get_mut("anyOf") {
            Some(Value::Array(parts)) => parts.iter_mut().for_each(&mut with_format),
            _ => with_format(&mut schema),
        }
        (format!("{name}.json"), schema)
    }
    vec![
        of::<Failed<'_>>("error", "What any command prints where it fails"),
        of::<init::Written>("init", "fernweh init"),
        of::<Sites>("sites", "fernweh sites"),
        of::<SurveyReport>("survey", "fernweh survey"),
        of::<Preflight>("survey-for", "fernweh survey --for"),
        of::<survey::Printed>("survey-print-config", "fernweh survey --print-config"),
        of::<PackReport>("pack", "fernweh pack"),
        of::<ShowReport>("show", "fernweh show"),
        of::<UnpackReport>("unpack", "fernweh unpack"),
        of::<LiveReport>("rewrite", "fernweh rewrite"),
        of::<FileReport>("rewrite-file", "fernweh rewrite -o"),
        of::<trial::Trial>("rewrite-try", "fernweh rewrite --try"),
        of::<scan::Document<'_>>("scan", "fernweh scan"),
        of::<TraceReport>("trace", "fernweh trace"),
        of::<CompareReport>("compare", "fernweh compare"),
        of::<ReadyReport>("ready", "fernweh ready"),
        of::<WatchReport>("ready-watch", "fernweh ready --watch"),
        of::<ready::StepsSet>("ready-steps", "fernweh ready --done, --open"),
        of::<redirects::Printed>("redirects", "fernweh redirects"),
        of::<PlacedReport>("redirects-place", "fernweh redirects --place, --remove"),
        of::<PlacedReport>("close", "fernweh close"),
        of::<MoveReport>("move", "fernweh move"),
        of::<undo::Outcome>("undo", "fernweh undo"),
        of::<runs::Listed>("runs", "fernweh runs"),
        of::<runs::Discarded>("runs-discard", "fernweh runs --discard"),
        of::<Told>("tell", "fernweh tell"),
        of::<Script>("completions", "fernweh completions"),
    ]
}
