"""Addresses: a page names song and station; mic and bars stand in its query."""

from django.urls import path

from arkund.bench.door import door
from arkund.bench.stations.registry import STATIONS
from arkund.bench.views import changes, desk, findings, ladders, songs, sound, stations, todos

urlpatterns = [
    path("", desk.index, name="songs"),
    path("door/", door, name="door"),
    path("demo/", desk.demo, name="song-demo"),
    path("restore/", desk.restore, name="song-restore"),
    path("new/", songs.new, name="new-song"),
    path("staging/<str:token>/", songs.stage, name="stage"),
    path("staging/<str:token>/make/", songs.make, name="make-song"),
    path("jobs/<int:number>/", songs.job, name="job"),
    path("jobs/<int:number>/cancel/", songs.cancel_job, name="cancel-job"),
    path("<slug:slug>/", songs.enter, name="song"),
    path("<slug:slug>/call/", desk.rename, name="song-rename"),
    path("<slug:slug>/duplicate/", desk.duplicate, name="song-duplicate"),
    path("<slug:slug>/backup/", desk.back_up, name="song-backup"),
    path("<slug:slug>/remove/", desk.remove, name="song-remove"),
    path("<slug:slug>/bring-back/", desk.bring_back, name="song-bring-back"),
    path("<slug:slug>/delete/", desk.delete, name="song-delete"),
    path("<slug:slug>/keep/", changes.keep, name="keep"),
    path("<slug:slug>/steps/", ladders.steps, name="steps"),
    path("<slug:slug>/ladder/", ladders.shown, name="ladder"),
    path("<slug:slug>/ladder/keep/", ladders.keep, name="ladder-keep"),
    path("<slug:slug>/rename/", changes.rename, name="rename"),
    path("<slug:slug>/comp/", changes.comp, name="comp"),
    path("<slug:slug>/offset/", changes.offset, name="offset"),
    path("<slug:slug>/undo/", changes.undo, name="undo"),
    path("<slug:slug>/redo/", changes.redo, name="redo"),
    path("<slug:slug>/take-back/", changes.take_back, name="take-back"),
    path("<slug:slug>/findings/", findings.listed, name="findings"),
    path("<slug:slug>/findings/apply/", findings.apply, name="finding-apply"),
    path("<slug:slug>/findings/decline/", findings.decline, name="finding-decline"),
    path("<slug:slug>/findings/reopen/", findings.reopen, name="finding-reopen"),
    path("<slug:slug>/school/", findings.school, name="school"),
    path("<slug:slug>/first-pass/start/", findings.first_pass, name="first-pass-start"),
    path("<slug:slug>/todo/add/", todos.add, name="todo-add"),
    path("<slug:slug>/todo/tick/", todos.tick, name="todo-tick"),
    path("<slug:slug>/pcm/", sound.pcm, name="pcm"),
    path("<slug:slug>/lanes/", sound.lanes, name="lanes"),
    path("<slug:slug>/value/", changes.typed, name="typed"),
    path("<slug:slug>/figures/", sound.figures, name="figures"),
    *(address for station in STATIONS.values() for address in station.addresses),
    path("<slug:slug>/picture/<slug:station>/", stations.picture, name="picture"),
    path("<slug:slug>/<slug:station>/", stations.page, name="station"),
]
