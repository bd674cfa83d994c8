DROP TABLE report_runs;
DROP TABLE report_schedules;
