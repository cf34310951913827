//! `split` and `join`: image files in parts.

use super::{images, refuse_existing};
use crate::{
    args::{JoinArgs, SplitArgs},
    context::Context,
    show,
};
use neat_content::{Content, Error, Event, IfThere, PendingFile, Result, Source, commit_together};
use neat_image::{Header, ImageDraft, ImageFile, part_name};

pub(crate) fn split(args: &SplitArgs, context: &Context) -> Result<()> {
    let image = images::open(&args.path)?;
    images::refuse_unfinished(&image)?;
    let job = context.job();
    if args.verify {
        ImageDraft::of(&image).verify(context.threads, &job)?;
    }
    let contents = neat_image::split(&image, args.limit, &job)?;
    let Some(first) = args.output.file_name().map(|name| name.to_string_lossy().into_owned()) else {
        return Err(Error::request(
            format!("{} is no file name", args.output.display()),
            "name the first part",
        ));
    };
    let paths: Vec<_> =
        (1..=contents.len()).map(|n| args.output.with_file_name(part_name(&first, n))).collect();
    for path in &paths {
        images::refuse_sources(path, &[&image])?;
        refuse_existing(path, args.replace)?;
    }
    // All are written before the first gets its name, so that a failure leaves none.
    let mut written = Vec::new();
    let total = contents.iter().map(Content::len).sum();
    job.event(Event::StepStarted { step: "writing the parts", total_bytes: Some(total) });
    for (path, content) in paths.iter().zip(&contents) {
        let (pending, mut output) = PendingFile::create_output(path, IfThere::replace(args.replace), None)?;
        output.write_content(content, &job)?;
        written.push((pending, output.finish()?.0));
    }
    job.event(Event::StepFinished);
    commit_together(written)?;
    let parts: Vec<_> = paths
        .iter()
        .zip(&contents)
        .map(|(path, content)| (path.display().to_string(), content.len()))
        .collect();
    if context.json {
        let parts = parts.into_iter().map(|(path, size)| show::image::SplitPart { path, size }).collect();
        return context.print_json(&show::image::SplitView { parts });
    }
    context.print(
        &parts
            .iter()
            .map(|(path, size)| format!("{}  {}\n", show::outside::line(path), show::size(*size)))
            .collect::<String>(),
    )
}

pub(crate) fn join(args: &JoinArgs, context: &Context) -> Result<()> {
    let image = if let [one] = args.parts.as_slice() {
        images::open(one)?
    } else {
        let mut parts = Vec::new();
        for path in &args.parts {
            let content = Content::from_source(Source::open(path)?);
            Header::read(&content).map_err(|error| error.within(path.display()))?;
            parts.push((path.display().to_string(), content));
        }
        ImageFile::open_parts(parts)?
    };
    images::refuse_unfinished(&image)?;
    let job = context.job();
    if args.output.verify {
        ImageDraft::of(&image).verify(context.threads, &job)?;
    }
    let content = neat_image::join(&image, &job)?;
    job.event(Event::StepStarted { step: "joining", total_bytes: Some(content.len()) });
    let len = images::write_output(&args.output, &[&image], &mut |out| out.write_content(&content, &job))?;
    job.event(Event::StepFinished);
    let path = args.output.output.display();
    if context.json {
        return context.print_json(&show::image::JoinedView {
            image: path.to_string(),
            size: len,
            parts: image.parts().len(),
        });
    }
    let parts = show::count(image.parts().len() as u64, "part", "parts");
    context.print_line(&format!("{path}  {} from {parts}", show::size(len)))
}
