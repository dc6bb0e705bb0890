package definition

import (
	"reflect"
	"slices"
	"strings"

	"github.com/compose-spec/compose-go/v2/types"
)

// told is what is said where a property of a compose file is not honoured.
type told struct {
	sev Severity
	fix string
}

// Words that many of them share.
const (
	sizeSays   = "leave it out: the size of the workspace bounds its services too"
	yardSays   = "leave it out: how containers run on the yard's machine is its operator's to say"
	alonePlain = "leave it out: it changes nothing here"
)

// notHonoured are the properties of a service that are not honoured, or in
// part only, with what to do instead; all others of the Compose Specification
// are. What changes nothing that a developer sees is a note.
var notHonoured = map[string]told{
	"annotations":         {Note, alonePlain},
	"blkio_config":        {Note, sizeSays},
	"cgroup":              {Warning, yardSays},
	"cgroup_parent":       {Warning, yardSays},
	"cpu_count":           {Note, "write cpus"},
	"cpu_percent":         {Note, "write cpus"},
	"cpu_period":          {Note, "write cpus"},
	"cpu_quota":           {Note, "write cpus"},
	"cpu_rt_period":       {Note, sizeSays},
	"cpu_rt_runtime":      {Note, sizeSays},
	"cpu_shares":          {Note, sizeSays},
	"cpuset":              {Note, sizeSays},
	"credential_spec":     {Warning, "leave it out: it is for another operating system"},
	"develop":             {Note, alonePlain},
	"device_cgroup_rules": {Warning, "name the devices in devices"},
	"dns_opt":             {Warning, "leave it out, or name an address in extra_hosts"},
	"dns_search":          {Warning, "write names in full"},
	"dockerfile":          {Warning, "write it in build"},
	"domainname":          {Note, "write the whole name in hostname"},
	"external_links":      {Warning, "reach what is outside by its address"},
	"gpus":                {Warning, "do without: no yard offers one"},
	"ipc":                 {Warning, "leave it out: a service has memory of its own; shm_size makes it larger"},
	"isolation":           {Note, alonePlain},
	"label_file":          {Note, "write them in labels"},
	"log_driver":          {Note, "leave it out: what a service prints is kept with the workspace"},
	"log_opt":             {Note, "leave it out: what a service prints is kept with the workspace"},
	"logging":             {Note, "leave it out: what a service prints is kept with the workspace"},
	"mac_address":         {Warning, "leave it out, or have what needs it look at the name"},
	"mem_reservation":     {Note, sizeSays},
	"mem_swappiness":      {Note, sizeSays},
	"memswap_limit":       {Note, sizeSays},
	"models":              {Warning, "run one as a service"},
	"net":                 {Warning, "write network_mode"},
	"oom_kill_disable":    {Warning, sizeSays},
	"oom_score_adj":       {Note, sizeSays},
	"pid":                 {Warning, "leave it out: a service sees its own processes"},
	"pids_limit":          {Note, sizeSays},
	"post_start":          {Warning, "put it in the service's command, or in a life-cycle command of the definition"},
	"pre_start":           {Warning, "make it a service of its own, and wait for it with service_completed_successfully"},
	"pre_stop":            {Warning, "have the service do it when it is asked to end"},
	"provider":            {Warning, "run what it provides as a service"},
	"pull_policy":         {Note, "leave it out: an image is fetched when it is not there"},
	"pull_refresh_after":  {Note, "leave it out: an image is fetched when it is not there"},
	"runtime":             {Warning, yardSays},
	"scale":               {Warning, "leave it out: each service runs once"},
	"stop_grace_period":   {Note, "leave it out: a service has ten seconds to end"},
	"storage_opt":         {Note, sizeSays},
	"umask":               {Warning, "set it in the service's command"},
	"use_api_socket":      {Warning, "do without: the engine is not to be reached from inside"},
	"userns_mode":         {Warning, yardSays},
	"uts":                 {Note, "write hostname"},
	"volume_driver":       {Warning, "leave it out: each workspace has volumes of its own"},
	"volumes_from":        {Warning, "name the volumes in volumes"},
}

// notHonouredBuild are those of a service's build.
var notHonouredBuild = map[string]told{
	"additional_contexts": {Warning, "copy from the repository, or from an image named in the build file"},
	"cache_to":            {Note, alonePlain},
	"entitlements":        {Warning, "do without: a build has no rights beyond its own"},
	"extra_hosts":         {Warning, "reach it by its address"},
	"isolation":           {Note, alonePlain},
	"labels":              {Note, "write LABEL in the build file"},
	"network":             {Warning, "leave it out: a build reaches what the yard's machine does"},
	"no_cache":            {Note, "leave it out: an image is built when what goes into it changes"},
	"no_cache_filter":     {Note, "leave it out: an image is built when what goes into it changes"},
	"platforms":           {Note, "leave it out: the image is for the yard's own processor"},
	"privileged":          {Warning, "do without: a build has no rights beyond its own"},
	"provenance":          {Note, alonePlain},
	"pull":                {Note, "leave it out: an image is fetched when it is not there"},
	"sbom":                {Note, alonePlain},
	"secrets":             {Warning, "fetch what needs it in a life-cycle command, where the person's secrets are"},
	"shm_size":            {Warning, "leave it out"},
	"ssh":                 {Warning, "fetch what needs it in a life-cycle command, where the person's sign-in to git is"},
	"tags":                {Note, alonePlain},
	"ulimits":             {Warning, "leave it out"},
}

// onlyBeside are honoured of the services beside the workspace, and not of the
// one that people work in: there the workspace is what says it.
var onlyBeside = map[string]told{
	"cpus":        {Note, "leave it out: the size of the workspace says it"},
	"healthcheck": {Note, "leave it out: nobody waits for the workspace's own"},
	"mem_limit":   {Note, "leave it out: the size of the workspace says it"},
	"read_only":   {Warning, "leave it out: people work in it"},
	"restart":     {Note, "leave it out: the service keeps it running"},
	"stop_signal": {Note, "leave it out"},
	"working_dir": {Note, "say it in workspaceFolder"},
}

// said lists the properties of a value of the reader's types that say
// something, by the names that they have in the files.
func said(v reflect.Value) (out []string) {
	t := v.Type()
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
		switch f := v.Field(i); {
		case t.Field(i).Anonymous:
			out = append(out, said(f)...)
		case name == "" || name == "-" || strings.HasPrefix(name, "#"):
		case f.IsZero():
		case (f.Kind() == reflect.Map || f.Kind() == reflect.Slice) && f.Len() == 0:
		default:
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// passedOver tells what of a service is not honoured, each where it stands.
func (c composeServices) passedOver(s types.ServiceConfig, work bool) {
	for _, name := range said(reflect.ValueOf(s)) {
		t, ok := notHonoured[name]
		if !ok && work {
			t, ok = onlyBeside[name]
		}
		if !ok || name == "scale" && *s.Scale < 2 {
			continue
		}
		value := ""
		switch name {
		case "pid", "ipc", "uts", "userns_mode", "runtime":
			value = ": " + reflect.ValueOf(s).FieldByNameFunc(func(f string) bool { return strings.EqualFold(f, strings.ReplaceAll(name, "_", "")) }).String()
		}
		c.tell("not-honoured", t.sev, s.Name, name, t.fix, "%s%s of service %q is not honoured", name, value, s.Name)
	}
	if s.Build != nil {
		for _, name := range said(reflect.ValueOf(*s.Build)) {
			if t, ok := notHonouredBuild[name]; ok {
				d, at := c.spot("services", s.Name, "build", name)
				d.rule("not-honoured", t.sev, at, t.fix, "%s of the build of service %q is not honoured", name, s.Name)
			}
		}
	}
}
