//! A view that is being looked at: samples are taken, pictures drawn, keys obeyed.

use std::time::{Duration, Instant};

use anyhow::Result;
use tonemap_core::live::{History, Listener, LiveSettings};
use tonemap_view::{Looks, Request, Running, Watch as View, picture};

use super::feed::{Came, Feed, Samples};
use super::keep::{Keeper, Recording};
use super::screen::{self, Pressed, Screen};
use super::{End, Watch};
use crate::interrupt;

/// Pictures are drawn, and samples taken, so often.
const PICTURE: Duration = Duration::from_millis(40);
/// What was done last is said so long.
const NOTICE: Duration = Duration::from_secs(4);

/// A view that is being looked at.
pub(super) struct Viewing<'a> {
    args: &'a Watch,
    feed: Feed,
    listener: Listener,
    keeper: Keeper,
    view: View,
    recording: Option<Recording>,
    notice: Option<(String, Instant)>,
    has_ended: bool,
    onset_s: Option<f64>,
    /// What was heard until the picture was frozen, and its numbers: it goes on behind the picture.
    frozen: Option<(History, String)>,
}

impl<'a> Viewing<'a> {
    pub(super) fn new(
        args: &'a Watch,
        feed: Feed,
        listener: Listener,
        keeper: Keeper,
    ) -> Result<Self> {
        let looks = Looks::new(screen::colours());
        let view = View::new(&listener, looks, args.view.into())?;
        Ok(Self {
            args,
            feed,
            listener,
            keeper,
            view,
            recording: None,
            notice: None,
            has_ended: false,
            onset_s: None,
            frozen: None,
        })
    }

    /// Draws and obeys until it ends; a recording is finished then, whatever ended it.
    pub(super) fn run(mut self) -> Result<End> {
        let mut screen = Screen::enter(self.args.through)?;
        interrupt::wait_to_be_asked();
        let end = self.go_on(&mut screen);
        drop(screen);
        if let Some(recording) = self.recording.take() {
            let said = format!("recorded {}\n", self.keeper.end(recording)?);
            self.args.say(&said)?;
        }
        end
    }

    fn go_on(&mut self, screen: &mut Screen) -> Result<End> {
        let last_s = self.args.lasts.map_or(f64::INFINITY, |lasts| lasts.0);
        let mut next = Instant::now();
        loop {
            while let Some(pressed) = screen.pressed(next.saturating_duration_since(Instant::now()))
            {
                match pressed {
                    Pressed::Interrupt => return Ok(End::Left),
                    Pressed::Suspend => screen.suspend()?,
                    Pressed::Key(key) => {
                        let asked = self.view.key(key, &self.listener);
                        self.keep_frozen()?;
                        if let Some(request) = asked
                            && self.obey(request, screen)?
                        {
                            return Ok(End::Left);
                        }
                    }
                }
            }
            if interrupt::is_asked_to_end() {
                return Ok(End::Asked);
            }
            if interrupt::is_to_stop() {
                screen.suspend()?;
            }
            self.take_samples(last_s)?;
            if let (true, Some(at_s)) = (self.args.until_onset, self.onset_s) {
                return Ok(End::Onset(at_s));
            }
            if self.listener.time_s() >= last_s - 1e-9 {
                return Ok(End::Left);
            }
            if self.has_ended && self.args.until_onset {
                return Ok(End::Ended);
            }
            self.view.update(&mut self.listener);
            screen.draw(&self.view, &self.running())?;
            // A picture that comes late moves those behind it: samples wait, pictures are left out.
            next = (next + PICTURE).max(Instant::now());
        }
    }

    /// Takes all that has come.
    fn take_samples(&mut self, last_s: f64) -> Result<()> {
        /// A source that is faster than this is looked at in between.
        const LONGEST: Duration = Duration::from_millis(100);
        let began = Instant::now();
        let last = (last_s * self.feed.format.sample_rate_hz).round();
        while !self.has_ended && began.elapsed() < LONGEST {
            match self.feed.next(Duration::ZERO)? {
                Came::Samples(mut samples) => {
                    let room = (last - self.listener.history().end() as f64).max(0.0);
                    if (samples[0].len() as f64) > room {
                        for of in &mut samples {
                            of.truncate(room as usize);
                        }
                    }
                    self.listener.push(&samples);
                    self.record(&samples)?;
                }
                Came::Nothing => break,
                Came::End => self.has_ended = true,
            }
        }
        // What is not asked for would be kept.
        self.onset_s = self.onset_s.or(self.listener.onsets_s().first().copied());
        Ok(())
    }

    fn record(&mut self, samples: &Samples) -> Result<()> {
        let Some(recording) = &mut self.recording else { return Ok(()) };
        if !recording.write(samples)?
            && let Some(full) = self.recording.take()
        {
            let said = self.keeper.end(full)?;
            self.notify(format!("recorded {said}: a WAV file holds no more than 4 GiB"));
        }
        Ok(())
    }

    /// Keeps what is frozen as long as it is.
    fn keep_frozen(&mut self) -> Result<()> {
        match (self.view.is_frozen(), &self.frozen) {
            (true, None) => {
                let numbers = self.numbers()?;
                self.frozen = Some((self.listener.history().clone(), numbers));
            }
            (false, Some(_)) => self.frozen = None,
            _ => (),
        }
        Ok(())
    }

    fn notify(&mut self, said: String) {
        self.notice = Some((said, Instant::now()));
    }

    fn running(&self) -> Running {
        let notice = self.notice.as_ref().filter(|(_, at)| at.elapsed() < NOTICE);
        let alone = self.feed.is_alone().then(|| "nobody takes the samples any more".to_string());
        Running {
            source: self.feed.name.clone(),
            recording_s: self.recording.as_ref().map(Recording::lasts_s),
            behind_s: self.feed.behind_s(),
            lost_samples: self.feed.lost_samples(),
            silent_s: self.feed.silent_s(),
            has_ended: self.has_ended,
            notice: notice.map(|(said, _)| said.clone()).or(alone),
        }
    }

    /// Does what only the program can; `true` to end. What goes wrong is said, and it goes on.
    fn obey(&mut self, request: Request, screen: &mut Screen) -> Result<bool> {
        let done = match request {
            Request::Quit => return Ok(true),
            Request::Listen(settings) => self.listen(&settings),
            Request::Save => self.save(),
            Request::Record => self.toggle_recording(),
            Request::Picture => {
                let cells = screen.cells(&self.view, &self.running())?;
                let drawn = picture(&cells).and_then(|figure| figure.png());
                let kept = drawn.map_err(anyhow::Error::from);
                kept.and_then(|file| Ok(Some(format!("saved {}", self.keeper.picture(&file)?))))
            }
        };
        match done {
            Ok(said) => self.notice = said.map(|said| (said, Instant::now())),
            Err(error) => self.notify(crate::status::causes(&error).join(": ")),
        }
        Ok(false)
    }

    fn listen(&mut self, settings: &LiveSettings) -> Result<Option<String>> {
        self.listener.set(settings.clone())?;
        self.view.listens(settings);
        Ok(None)
    }

    /// All that is measured now, as a line of JSON.
    fn numbers(&mut self) -> Result<String> {
        let moment = self.listener.moment();
        self.args.line(&self.feed.name, &self.listener, &moment)
    }

    fn save(&mut self) -> Result<Option<String>> {
        let kept_s = self.args.keeping.keep.0;
        let said = match &self.frozen {
            Some((history, numbers)) => self.keeper.save(history, kept_s, numbers)?,
            None => {
                let numbers = self.numbers()?;
                self.keeper.save(self.listener.history(), kept_s, &numbers)?
            }
        };
        Ok(Some(format!("saved {said}")))
    }

    fn toggle_recording(&mut self) -> Result<Option<String>> {
        if let Some(recording) = self.recording.take() {
            return Ok(Some(format!("recorded {}", self.keeper.end(recording)?)));
        }
        let before_s = self.args.keeping.pre_roll.0;
        self.recording = Some(self.keeper.record(self.listener.history(), before_s)?);
        Ok(None)
    }
}
