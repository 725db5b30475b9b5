//! All analyses of an estate, each computed once: audits, views and reports share them.

use crate::exposures::{InternalExposure, InternetExposure};
use crate::filter_review::{
    FilterReview, FilterReviewCache, count_rules, filters, review_device, translates,
};
use crate::map::EstateMap;
use rayon::prelude::*;
use std::ops::Deref;
use std::sync::OnceLock;
use trevlin_estate::assemble::{Estate, LeftOutFile};
use trevlin_model::Limit;
use trevlin_packets::review::RuleStatus;

/// An estate with its analyses, each computed on first use. Each part receives the ones it builds on.
#[derive(Debug)]
pub struct Analyses {
    map: EstateMap,
    internet: OnceLock<InternetExposure>,
    internal: OnceLock<InternalExposure>,
    /// Reviews of packet filters, by device.
    rule_reviews: Vec<OnceLock<Vec<FilterReviewCache>>>,
    /// Rules of the packet filters of all devices.
    rules: OnceLock<usize>,
}

impl Analyses {
    /// The analyses of an estate; nothing is computed yet.
    #[must_use]
    pub fn of(estate: Estate) -> Self {
        let rule_reviews = estate.devices.iter().map(|_| OnceLock::new()).collect();
        Self {
            map: EstateMap::of(estate),
            internet: OnceLock::new(),
            internal: OnceLock::new(),
            rule_reviews,
            rules: OnceLock::new(),
        }
    }

    /// The estate with its topology and addresses.
    #[must_use]
    pub fn map(&self) -> &EstateMap {
        &self.map
    }

    /// Services, and their exposure to the Internet.
    pub fn internet(&self) -> &InternetExposure {
        once(&self.internet, || InternetExposure::of(&self.map))
    }

    /// Networks and services that VPN clients and other sites reach, and the evaluation of intents.
    pub fn internal(&self) -> &InternalExposure {
        once(&self.internal, || InternalExposure::of(&self.map, &self.internet().services))
    }

    /// The evaluation of every intent of the estate file.
    pub fn evaluated_intents(&self) -> &[crate::intents::IntentEvaluation] {
        &self.internal().intents
    }

    /// The review of a device's packet filters.
    pub fn rule_reviews(&self, device: usize) -> &[FilterReviewCache] {
        let made: &Vec<FilterReviewCache> =
            once(&self.rule_reviews[device], || review_device(&self.map, device, self.all_rules(), filters));
        made
    }

    /// Reviews of the base chains of a device that translate, computed anew.
    pub fn translation_reviews(&self, device: usize) -> Vec<FilterReviewCache> {
        review_device(&self.map, device, self.all_rules(), translates)
    }

    /// Rules of the packet filters of all devices.
    fn all_rules(&self) -> usize {
        *once(&self.rules, || (0..self.devices.len()).map(|one| count_rules(&self.map, one)).sum())
    }

    /// The tables in force on a device that filter, reviewed.
    #[must_use]
    pub fn filter_reviews(&self, device: usize) -> Vec<FilterReview<'_>> {
        let filters = &self.devices[device].facts.filters;
        self.rule_reviews(device).iter().map(|one| one.of(device, filters)).collect()
    }

    /// Results left out because of the work limit: further exposure to the Internet, and filters whose rules were not decided.
    pub fn too_costly(&self) -> Vec<LeftOutFile> {
        let mut told = Vec::new();
        if self.internet().outside.cut {
            let why = format!(
                "the analysis stopped at its work limit, so the result may be incomplete; {}",
                Limit::SetNodes.remedy()
            );
            told.push(LeftOutFile { path: "what is reachable from the Internet".into(), why });
        }
        for device in 0..self.devices.len() {
            for kept in self.rule_reviews(device) {
                let count = kept.statuses().filter(|one| **one == RuleStatus::TooCostly).count();
                if count > 0 {
                    let why = format!(
                        "whether {count} rules of this filter are ever effective was not decided, because of the work limit; \
                         {}",
                        Limit::SetNodes.remedy()
                    );
                    let origin = self.devices[device].facts.filters[kept.filter()].origin;
                    told.push(LeftOutFile { path: self.place(origin), why });
                }
            }
        }
        told
    }

    /// Takes it apart on every core: texts and secrets are wiped byte by byte, and of a large estate there are many.
    pub fn wipe(self) {
        let Self { map, rule_reviews, .. } = self;
        rayon::join(|| map.into_estate().wipe(), || rule_reviews.into_par_iter().for_each(drop));
    }
}

/// A value computed on first use. It is computed before it is stored: several threads take part, and one that waits for the others may
/// receive a task that needs the same value.
fn once<T>(cell: &OnceLock<T>, make: impl FnOnce() -> T) -> &T {
    if let Some(known) = cell.get() {
        return known;
    }
    let made = make();
    cell.get_or_init(|| made)
}

impl Deref for Analyses {
    type Target = EstateMap;

    fn deref(&self) -> &EstateMap {
        &self.map
    }
}
