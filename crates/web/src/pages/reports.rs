//! Reports: upload, agree on the columns, watch, decide about errors, undo.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Multipart, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_channel::report::{Column, DateOrder, Dialect, Mapping};
use tiller_desk::measure::reports as desk;
use tiller_desk::measure::reports::{ImportState, ReportImport, Sender};
use tiller_desk::numerals::{counted, full_day, number};
use tiller_desk::{DeskError, ImportId};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Fragment, Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::csv_file;
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// An import in the list.
pub struct Entry {
    href: String,
    file: String,
    when: String,
    days: String,
    rows: String,
    state: &'static str,
    tone: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "reports.html")]
struct ReportsPage {
    frame: Frame,
    entries: Vec<Entry>,
    wrong: Option<String>,
}

/// A header of the file and what it may mean.
pub struct Field {
    header: String,
    chosen: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "report_mapping.html")]
struct MappingPage {
    frame: Frame,
    id: ImportId,
    file: String,
    size: String,
    fields: Vec<Field>,
    rows: Vec<Vec<String>>,
    columns: Vec<(&'static str, &'static str, bool)>,
    dialect: Dialect,
    orders: Vec<(&'static str, &'static str, bool)>,
    channel: String,
    currency: String,
    remembered: bool,
    splits: String,
    wrong: Option<String>,
}

/// An error of a row.
pub struct ErrorLine {
    line: String,
    column: String,
    found: String,
    expected: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "report.html")]
struct ReportPage {
    frame: Frame,
    status: StatusFragment,
}

#[derive(Template, WebTemplate)]
#[template(path = "report_status.html")]
struct StatusFragment {
    base: String,
    spend: String,
    running: bool,
    id: ImportId,
    file: String,
    state: &'static str,
    percent: f64,
    bytes: String,
    rows: String,
    kept: String,
    days: String,
    message: String,
    errors: Vec<ErrorLine>,
    error_count: i64,
    error_text: String,
    editor: bool,
}

fn size(bytes: i64) -> String {
    let bytes = bytes as f64;
    match bytes {
        b if b >= 1e9 => format!("{} GB", number(b / 1e9, 1)),
        b if b >= 1e6 => format!("{} MB", number(b / 1e6, 1)),
        b => format!("{} kB", number((b / 1e3).max(1.0), 0)),
    }
}

fn covered(import: &ReportImport) -> String {
    desk::covered(import).map_or(String::new(), |(a, b)| {
        if a == b { full_day(a) } else { format!("{} to {}", full_day(a), full_day(b)) }
    })
}

fn title(state: ImportState) -> (&'static str, &'static str) {
    match state {
        ImportState::Uploading => ("arriving", "quiet"),
        ImportState::Mapping => ("waits for its columns", ""),
        ImportState::Queued => ("queued", "quiet"),
        ImportState::Running => ("being read", ""),
        ImportState::Done => ("imported", "gain"),
        ImportState::Decide => ("rows with errors: decide", "harm"),
        ImportState::Failed => ("not imported", "harm"),
        ImportState::Undone => ("undone", "quiet"),
        ImportState::Dropped => ("dropped", "quiet"),
    }
}

async fn list_page(
    app: &App,
    member: &Member,
    params: &Params,
    wrong: Option<String>,
) -> Result<ReportsPage, PageError> {
    let frame = Frame::new(member, Station::Reports, params);
    let entry = |i: ReportImport| {
        let (state, tone) = title(i.state);
        Entry {
            href: format!("{}/reports/{}", frame.base(), i.id),
            when: i.created_at.format("%-d %b %Y, %H:%M UTC").to_string(),
            days: covered(&i),
            rows: if i.state == ImportState::Done {
                number(i.rows_kept as f64, 0)
            } else {
                String::new()
            },
            file: i.file_name,
            state,
            tone,
        }
    };
    let entries = desk::list(&app.db, &member.account).await?.into_iter().map(entry).collect();
    Ok(ReportsPage { entries, wrong, frame })
}

/// The account's imports and the place for a new one.
pub async fn list(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    list_page(&app, &member, &params, None).await
}

/// Takes a file as it streams in.
pub async fn upload(
    Editor(member): Editor,
    State(app): State<App>,
    params: Params,
    mut form: Multipart,
) -> Result<Response, PageError> {
    let broken = |e: axum::extract::multipart::MultipartError| {
        PageError::Invalid(format!("The upload broke off: {e}. Upload the file again."))
    };
    while let Some(field) = form.next_field().await.map_err(broken)? {
        let name = field.file_name().unwrap_or_default().to_owned();
        if field.name() != Some("file") || name.is_empty() {
            continue;
        }
        let name: String =
            name.rsplit(['/', '\\']).next().unwrap_or_default().chars().take(200).collect();
        let id =
            desk::upload(&app.db, &member.account, Sender::Person(member.person.id), &name, field)
                .await?;
        if let Err(DeskError::Invalid(wrong)) = desk::preview(&app.db, &member.account, id).await {
            desk::drop_import(&app.db, &member.account, id).await?;
            let wrong = format!("‘{name}’ was not taken: {wrong}.");
            return Ok((
                StatusCode::UNPROCESSABLE_ENTITY,
                list_page(&app, &member, &params, Some(wrong)).await?,
            )
                .into_response());
        }
        return Ok(Redirect::to(&member.path(&format!("reports/{id}"))).into_response());
    }
    let page = list_page(&app, &member, &params, Some("Choose a file first.".into())).await?;
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}

/// One import: its columns, its progress, its errors or its end.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<ImportId>,
    Fragment(fragment): Fragment,
    params: Params,
) -> Result<Response, PageError> {
    let import = desk::get(&app.db, &member.account, id).await?;
    if import.state == ImportState::Mapping {
        return Ok(mapping_page(&app, &member, &params, &import, None, None)
            .await?
            .into_response());
    }
    let status = status(&app, &member, &import).await?;
    if fragment {
        return Ok(status.into_response());
    }
    Ok(ReportPage { frame: Frame::new(&member, Station::Reports, &params), status }.into_response())
}

async fn status(app: &App, member: &Member, i: &ReportImport) -> Result<StatusFragment, PageError> {
    let errors = desk::errors(&app.db, &member.account, i.id, 100).await?;
    let lines = errors.into_iter().map(|e| ErrorLine {
        line: number(e.line as f64, 0),
        column: e.column,
        found: e.found,
        expected: e.expected,
    });
    let share =
        if i.size > 0 { (100.0 * i.bytes_read as f64 / i.size as f64).min(100.0) } else { 0.0 };
    Ok(StatusFragment {
        base: member.path("reports"),
        spend: member.path("spend"),
        running: matches!(
            i.state,
            ImportState::Uploading | ImportState::Queued | ImportState::Running
        ),
        id: i.id,
        file: i.file_name.clone(),
        state: i.state.word(),
        percent: (share * 10.0).round() / 10.0,
        bytes: format!("{} of {}", size(i.bytes_read), size(i.size)),
        rows: number(i.rows_read as f64, 0),
        kept: counted(i.rows_kept as u64, "row", "rows"),
        days: covered(i),
        message: i.message.clone().unwrap_or_default(),
        errors: lines.collect(),
        error_count: i.error_count,
        error_text: counted(i.error_count as u64, "error", "errors"),
        editor: Frame::new(member, Station::Reports, &Params::default()).editor,
    })
}

async fn mapping_page(
    app: &App,
    member: &Member,
    params: &Params,
    import: &ReportImport,
    chosen: Option<Mapping>,
    wrong: Option<String>,
) -> Result<MappingPage, PageError> {
    let preview = desk::preview(&app.db, &member.account, import.id).await?;
    let mapping = chosen.unwrap_or(preview.mapping);
    let fields = preview.guess.headers.iter().enumerate().map(|(i, header)| Field {
        header: if header.is_empty() { format!("(column {})", i + 1) } else { header.clone() },
        chosen: mapping.columns.get(i).copied().flatten().map_or("", Column::name),
    });
    let orders = [
        (DateOrder::YearFirst, "year_first"),
        (DateOrder::DayFirst, "day_first"),
        (DateOrder::MonthFirst, "month_first"),
    ];
    Ok(MappingPage {
        frame: Frame::new(member, Station::Reports, params),
        id: import.id,
        file: import.file_name.clone(),
        size: size(import.size),
        fields: fields.collect(),
        rows: preview.guess.rows.iter().take(8).cloned().collect(),
        columns: Column::ALL.iter().map(|c| (c.name(), c.title(), c.required())).collect(),
        dialect: mapping.dialect,
        orders: orders
            .into_iter()
            .map(|(o, word)| (word, o.example(), o == mapping.dialect.date_order))
            .collect(),
        channel: mapping.channel.unwrap_or_default(),
        currency: mapping.currency.unwrap_or_else(|| member.account.currency.clone()),
        remembered: preview.remembered,
        splits: preview.guess.splits.join(", "),
        wrong,
    })
}

/// What the person said about the columns.
fn read_mapping(fields: &Fields, columns: usize, delimiter: char) -> Mapping {
    let text = |name: &str| fields.get(name).map(|t| t.trim().to_owned()).filter(|t| !t.is_empty());
    Mapping {
        columns: (0..columns)
            .map(|i| text(&format!("column-{i}")).and_then(|c| c.parse().ok()))
            .collect(),
        dialect: Dialect {
            delimiter,
            decimal: if text("decimal").as_deref() == Some(",") { ',' } else { '.' },
            date_order: match text("date_order").as_deref() {
                Some("day_first") => DateOrder::DayFirst,
                Some("month_first") => DateOrder::MonthFirst,
                _ => DateOrder::YearFirst,
            },
        },
        channel: text("channel"),
        currency: text("currency"),
    }
}

/// Starts the import with the agreed columns.
pub async fn start(Id(id): Id<ImportId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let import = desk::get(&app.db, &member.account, id).await?;
    let preview = desk::preview(&app.db, &member.account, import.id).await?;
    let mapping =
        read_mapping(fields, preview.guess.headers.len(), preview.guess.mapping.dialect.delimiter);
    match desk::start(&app.db, &member.account, import.id, &mapping).await {
        Ok(()) => {
            app.wake.imports.notify_one();
            Ok(back(member, id))
        }
        Err(DeskError::Invalid(wrong)) => {
            let page =
                mapping_page(app, member, params, &import, Some(mapping), Some(wrong)).await?;
            Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

fn back(member: &Member, id: ImportId) -> Response {
    Redirect::to(&member.path(&format!("reports/{id}"))).into_response()
}

/// Imports the good rows only.
pub async fn accept(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ImportId>,
) -> Result<Response, PageError> {
    desk::accept_good(&app.db, &member.account, id).await?;
    app.wake.imports.notify_one();
    Ok(back(&member, id))
}

/// Back to the columns of a failed import.
pub async fn columns(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ImportId>,
) -> Result<Redirect, PageError> {
    desk::back(&app.db, &member.account, id).await?;
    Ok(Redirect::to(&member.path(&format!("reports/{id}"))))
}

/// Imports nothing.
pub async fn drop_import(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ImportId>,
) -> Result<Response, PageError> {
    desk::drop_import(&app.db, &member.account, id).await?;
    Ok(Redirect::to(&member.path("reports")).into_response())
}

/// Takes an import back.
pub async fn undo(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ImportId>,
) -> Result<Response, PageError> {
    desk::undo(&app.db, &member.account, id).await?;
    Ok(back(&member, id))
}

/// The errors as CSV.
pub async fn errors_csv(
    member: Member,
    State(app): State<App>,
    Id(id): Id<ImportId>,
) -> Result<Response, PageError> {
    desk::get(&app.db, &member.account, id).await?;
    let errors = desk::errors(&app.db, &member.account, id, usize::MAX >> 1).await?;
    let header = ["line", "column", "found", "expected"].map(str::to_owned);
    csv_file(
        &format!("errors-{id}.csv"),
        &header,
        errors.into_iter().map(|e| vec![e.line.to_string(), e.column, e.found, e.expected]),
    )
}
