// Everything that shows, and talks to other processes: figures as PNG and SVG, by gnuplot, the page with its
// server, the service for programs, the ranks of a job.
#pragma once

#include "jevrin/figures/choice_figure.hpp"
#include "jevrin/figures/classes_figure.hpp"
#include "jevrin/figures/confusion_figure.hpp"
#include "jevrin/figures/curves_figure.hpp"
#include "jevrin/figures/equal_effort_figure.hpp"
#include "jevrin/figures/matrices_figure.hpp"
#include "jevrin/figures/network_figure.hpp"
#include "jevrin/figures/pairs_figure.hpp"
#include "jevrin/figures/reliability_figure.hpp"
#include "jevrin/figures/sheet.hpp"
#include "jevrin/figures/threshold_figure.hpp"
#include "jevrin/figures/training_sizes_figure.hpp"
#include "jevrin/mpi/job.hpp"
#include "jevrin/pages/report.hpp"
#include "jevrin/server/page_server.hpp"
#include "jevrin/server/service_server.hpp"
#include "jevrin/server/service_store.hpp"
