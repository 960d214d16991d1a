use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::figure_series::{FigureSeries, Seen};
use hurnix_core::findings::ratio::RATIOS;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::{Timestamp, Window};

use crate::{Result, Store};

impl Store {
    /// Figures of a server over time, each of each of its objects: means of buckets of `bucket_seconds`, by their
    /// beginning, from levels of detail up to `coarsest`, as things stand at `now`.
    pub async fn figure_series(
        &self,
        instance_id: i32,
        figures: &[ServerFigure],
        window: Window,
        (bucket_seconds, coarsest): (i64, Detail),
        now: Timestamp,
    ) -> Result<Vec<FigureSeries>> {
        let of_ratios: Vec<&str> = figures
            .iter()
            .flat_map(|figure| match figure {
                ServerFigure::Ratio(ratio) => ratio.parts().collect(),
                _ => Vec::new(),
            })
            .collect();
        let needed: Vec<ServerFigure> =
            figures.iter().copied().chain(of_ratios.into_iter().filter_map(ServerFigure::named)).collect();
        let mut seen = Vec::new();
        let is_of_sessions = |figure: &ServerFigure| matches!(figure, ServerFigure::Load | ServerFigure::Waits(_));
        if needed.iter().any(is_of_sessions) {
            let pieces = self.pieces(instance_id, &[RetentionGroup::Activity], window, coarsest, now).await?;
            seen.extend(self.load_series(instance_id, &pieces, bucket_seconds).await?);
        }
        if needed.iter().any(|figure| matches!(figure, ServerFigure::Counted(_))) {
            let pieces = self.pieces(instance_id, &[RetentionGroup::Databases], window, coarsest, now).await?;
            seen.extend(self.database_series(instance_id, &pieces, bucket_seconds).await?);
        }
        let metrics = needed.iter().filter_map(|figure| match figure {
            ServerFigure::Metric(metric) => Some(*metric),
            _ => None,
        });
        let metrics: Vec<_> = metrics.collect();
        if !metrics.is_empty() {
            let pieces = self.pieces(instance_id, &[RetentionGroup::Measures], window, coarsest, now).await?;
            seen.extend(self.metric_series(instance_id, &metrics, &pieces, bucket_seconds).await?);
        }
        let ratios: Vec<_> = RATIOS.iter().flat_map(|ratio| ratio.of(&seen)).collect();
        seen.extend(ratios);
        let of_figure = seen.into_iter().filter_map(|series| {
            let (figure, object) = ServerFigure::of(series.measured, &series.object)?;
            let values = series.values.iter().filter(|(.., over)| *over > 0.0);
            Some(FigureSeries {
                figure,
                object: object.to_owned(),
                bucket_seconds: bucket_seconds as f64,
                buckets: values.map(|(at, sum, over)| Seen { at: *at, sum: *sum, over: *over }).collect(),
            })
        });
        Ok(of_figure.filter(|series| figures.contains(&series.figure)).collect())
    }
}
